"""Sensor response: how much of each line each colour plane sees."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path
from typing import Final

import numpy as np

from ..model.channel import LINES, channel_name
from ..model.errors import BichromusError, ResponseError
from ..model.text_file import csv_rows, read_text
from ..model.visible import quote

MAX_CONDITION: Final = 30.0
_ROWS: Final = ("R", "G", "B")


@dataclass(frozen=True)
class Response:
    """Relative response (green peak = 1): ``table[plane][line]``."""

    name: str
    table: dict[str, dict[str, float]]

    def matrix(self, lines: Sequence[str]) -> np.ndarray:
        """A (3, n) for ``lines``. Raises ResponseError when a line is missing or the lines cannot
        be told apart.
        """
        missing = [line for line in lines if line not in self.table["R"]]
        if missing:
            raise ResponseError(
                f"The response {self.name!r} does not hold {', '.join(missing)}",
                do="Add the column, or choose another response",
            )
        matrix = np.array([[self.table[row][line] for line in lines] for row in _ROWS])
        if np.any(matrix.sum(0) <= 0):
            raise ResponseError(
                f"The response {self.name!r} sees nothing of a line", do="Check the table"
            )
        singular = np.linalg.svd(matrix / np.linalg.norm(matrix, axis=0), compute_uv=False)
        if singular[-1] <= 0 or singular[0] / singular[-1] > MAX_CONDITION:
            raise ResponseError(
                f"The response {self.name!r} cannot separate {' and '.join(lines)}",
                why="its planes see them in almost the same proportion",
                do="Check the lines of the stack, or load another response",
            )
        return matrix


def load_response(source: str | Path = "generic") -> Response:
    """``generic`` (approximate: main +-15 %, leaks +-40 %) or a CSV ``plane,Ha,O3,...`` with rows
    R, G, B.

    Raises ResponseError.
    """
    if str(source) == "generic":
        text = files("bichromus.core.extract").joinpath("generic.csv").read_text("utf-8")
        return _parse(text, "generic", None)
    path = Path(source)
    try:
        text = read_text(path, "utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise ResponseError(
            "The response table cannot be read",
            why=getattr(error, "strerror", None) or "not text",
            do="Give 'generic' or a CSV file",
            file=path,
        ) from error
    return _parse(text, path.stem, path)


def _parse(text: str, name: str, path: Path | None) -> Response:
    def refuse(why: str) -> ResponseError:
        return ResponseError(
            "The response table is not usable",
            why=why,
            do="Its header is plane,Ha,O3,S2,Hb (any of the lines), its rows are R, G and B",
            file=path,
        )

    lines = [
        line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")
    ]
    try:
        rows = csv_rows(lines)
    except ValueError as error:
        raise refuse(str(error)) from error
    if len(rows) < 4 or rows[0][0].lower() != "plane":
        raise refuse("the header or a row is missing")
    try:
        names = [channel_name(cell) for cell in rows[0][1:]]
    except BichromusError as error:
        raise refuse(error.what) from error
    if not names or len(set(names)) != len(names) or not set(names) <= set(LINES):
        raise refuse("its columns are not lines, each once")
    table: dict[str, dict[str, float]] = {}
    for row in rows[1:]:
        if row[0].upper() not in _ROWS or len(row) != len(rows[0]):
            raise refuse(f"the row {quote(','.join(row))} does not fit")
        try:
            values = [float(cell) for cell in row[1:]]
        except ValueError as error:
            raise refuse(
                f"the row {quote(','.join(row))} holds something that is no number"
            ) from error
        if not all(0 <= v < 1e6 for v in values):
            raise refuse(f"the row {quote(','.join(row))} holds a negative or infinite value")
        table[row[0].upper()] = dict(zip(names, values, strict=True))
    if set(table) != set(_ROWS):
        raise refuse("a plane is missing")
    return Response(name, table)
