"""Writing the picture, and the words that go with it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..core.blend.export import BAND_ROWS, quantise
from ..core.blend.palettes import FREE_PRESETS, MAPPINGS
from ..core.files import FORMATS, write_picture
from ..core.files.atomic import check_output
from ..core.model.channel import LONG_NAMES
from ..core.model.planes import Header
from ..core.model.progress import SILENT, Progress
from ..core.model.recipe import Recipe
from ..core.numerics.bands import ordered_parallel, row_bands
from .prepare import Channels
from .state import ProjectState, PublishState
from .viewport import Painter, View


@dataclass(frozen=True)
class Target:
    """One file to be written."""

    path: Path
    format_id: str


def targets(folder: Path, stem: str, publish: PublishState) -> list[Target]:
    """The files that publishing into ``folder`` would write."""
    out = []
    for format_id in publish.formats:
        tail = {"tiff32": "_float"}.get(format_id, "")
        out.append(Target(folder / f"{stem}{tail}{FORMATS[format_id].suffix}", format_id))
    return out


def output_shape(shape: tuple[int, int], longest: int | None) -> tuple[int, int]:
    """Height and width when the longest side is held to ``longest`` pixels; never larger than the data."""
    if longest is None or longest >= max(shape):
        return shape
    scale = longest / max(shape)
    return max(1, round(shape[0] * scale)), max(1, round(shape[1] * scale))


def write_all(painter: Painter, recipe: Recipe, wanted: list[Target], publish: PublishState, sources: list[Path],
              overwrite: bool, progress: Progress = SILENT) -> list[Path]:
    """Write every target, each whole or not at all. Raises OutputRefused before anything is written."""
    for target in wanted:
        check_output(target.path, overwrite, sources)
    shape = output_shape(painter.shape, publish.longest)
    for number, target in enumerate(wanted):
        part = progress.part(number / len(wanted), (number + 1) / len(wanted))
        chosen = FORMATS[target.format_id]
        bands = _bands(painter, recipe, shape, chosen.dtype, part, target.path.name)
        write_picture(target.path, chosen, bands, shape, recipe.model_dump(), overwrite, sources, Header(),
                      publish.quality)
    return [t.path for t in wanted]


def _bands(painter: Painter, recipe: Recipe, shape: tuple[int, int], dtype: str, progress: Progress, name: str,
           ) -> Iterator[np.ndarray]:
    step = max(painter.shape) / max(shape)
    painter.companions(recipe, recipe.settings.used())

    def work(band: tuple[int, int]) -> tuple[int, np.ndarray]:
        view = View(0.0, band[0] * step, step, shape[1], band[1] - band[0])
        return band[1], quantise(painter.code(recipe, view), dtype)

    for y1, pixels in ordered_parallel(work, row_bands(shape[0], BAND_ROWS), 2):
        progress.step(y1 / shape[0], f"writing {name}")
        yield pixels


def summary(state: ProjectState, channels: Channels, recipe: Recipe | None) -> str:
    """The acquisition summary in Markdown: hours per channel, stations, and how it was blended."""
    lines = [f"# {state.name}", ""]
    used = recipe.settings.used() if recipe else tuple(channels.names)
    total = 0.0
    seen: set[str] = set()
    for source in state.sources:
        total += source.hours or 0
    lines += ["| channel | from | subs | hours | SNR |", "|---|---|---:|---:|---:|"]
    for name in channels.names:
        if name not in used:
            continue
        prepared = channels.channel(name)
        subs = _subs(state, prepared.origin)
        hours = f"{prepared.hours:.1f}" if prepared.hours else "-"
        snr = f"{prepared.measure.snr:.1f}" if prepared.measure.snr else "-"
        lines.append(f"| {name} ({LONG_NAMES[name]}) | {prepared.label} | {subs} | {hours} | {snr} |")
    lines += ["", f"Integration of all stacks: {total:.1f} h."]
    for source in state.sources:
        if source.camera and source.camera not in seen:
            seen.add(source.camera)
            lines.append(f"{source.station or 'Rig'}: {source.camera}.")
    if recipe is not None:
        settings = recipe.settings
        lines += ["", f"Blend: {mapping_words(settings.mapping)}, balance {settings.balance:.2f}"
                  f"{' (automatic)' if settings.balance_auto else ''}, weights by SNR."]
    return "\n".join(lines) + "\n"


def mapping_words(mapping: str) -> str:
    """A mapping's title, or its formula."""
    titles = {m.id: m.title for m in (*MAPPINGS.values(), *FREE_PRESETS)}
    return titles.get(mapping, "own mix" if mapping == "free" else mapping)


def _subs(state: ProjectState, origin: str) -> str:
    ids = origin.partition("@")[2].split("-") if "@" in origin else [origin]
    line = origin.partition("@")[0] if "@" in origin else None
    found = [s for s in state.sources if any(s.id.startswith(i) for i in ids) and (line is None or line in s.lines)]
    return " + ".join(f"{s.subs} × {s.sub_s:.0f} s" for s in found if s.subs and s.sub_s) or "-"
