"""Writing the picture, and the words that go with it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ...core.blend.export import BAND_ROWS, quantise
from ...core.blend.palettes import FREE_PRESETS, MAPPINGS
from ...core.files import FORMATS, blend_header, read_fits_header, write_picture
from ...core.files.atomic import check_output
from ...core.model.channel import LONG_NAMES
from ...core.model.planes import Header
from ...core.model.progress import SILENT, Progress
from ...core.model.recipe import Recipe
from ...core.numerics.bands import ordered_parallel, row_bands
from ..channels.build import Channels
from ..channels.steps import stacks_behind
from ..project.state import ProjectState, PublishState, SourceState
from ..viewing.renderer import Painter, View


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
    """Height and width when the longest side is held to ``longest`` pixels; never larger than the
    data.
    """
    if longest is None or longest >= max(shape):
        return shape
    scale = longest / max(shape)
    return max(1, round(shape[0] * scale)), max(1, round(shape[1] * scale))


def write_all(
    painter: Painter,
    recipe: Recipe,
    wanted: list[Target],
    publish: PublishState,
    sources: list[Path],
    overwrite: bool,
    progress: Progress = SILENT,
) -> list[Path]:
    """Write every target, each whole or not at all. Raises OutputRefused before anything is
    written.
    """
    for target in wanted:
        check_output(target.path, overwrite, sources)
    shape = output_shape(painter.shape, publish.longest)
    # a picture made smaller no longer fits the sky coordinates of its stacks
    header = (
        blend_header(read_fits_header(sources[0]))
        if sources and shape == painter.shape
        else Header()
    )
    for number, target in enumerate(wanted):
        part = progress.part(number / len(wanted), (number + 1) / len(wanted))
        chosen = FORMATS[target.format_id]
        bands = _bands(painter, recipe, shape, chosen.dtype, part, target.path.name)
        write_picture(
            target.path,
            chosen,
            bands,
            shape,
            recipe.model_dump(),
            overwrite,
            sources,
            header,
            publish.quality,
        )
    return [t.path for t in wanted]


def _bands(
    painter: Painter,
    recipe: Recipe,
    shape: tuple[int, int],
    dtype: str,
    progress: Progress,
    name: str,
) -> Iterator[np.ndarray]:
    step = max(painter.shape) / max(shape)
    painter.companions(recipe, recipe.settings.used())

    def work(band: tuple[int, int]) -> tuple[int, np.ndarray]:
        view = View(0.0, band[0] * step, step, shape[1], band[1] - band[0])
        return band[1], quantise(painter.code(recipe, view), dtype)

    for y1, pixels in ordered_parallel(work, row_bands(shape[0], BAND_ROWS), 2):
        progress.step(y1 / shape[0], f"writing {name}")
        yield pixels


@dataclass(frozen=True)
class SummaryRow:
    """One channel of the picture: where it came from and what it took."""

    channel: str
    origin: str
    subs: str
    hours: float | None
    snr: float | None


def summary_rows(
    state: ProjectState, channels: Channels, recipe: Recipe | None
) -> list[SummaryRow]:
    """A row for each channel that the picture uses; of all channels while there is no picture."""
    used = recipe.settings.used() if recipe else tuple(channels.names)
    rows = []
    for name in channels.names:
        if name in used:
            prepared = channels.channel(name)
            subs = " + ".join(
                f"{s.subs} × {s.sub_s:.0f} s"
                for s in stacks_behind(channels, state, prepared)
                if s.subs and s.sub_s
            )
            rows.append(
                SummaryRow(name, prepared.label, subs, prepared.hours, prepared.measure.snr)
            )
    return rows


def used_sources(
    state: ProjectState, channels: Channels, recipe: Recipe | None
) -> list[SourceState]:
    """The stacks that the picture stands on, each once."""
    used = recipe.settings.used() if recipe else tuple(channels.names)
    ids = {
        s.id
        for n in channels.names
        if n in used
        for s in stacks_behind(channels, state, channels.channel(n))
    }
    return [s for s in state.sources if s.id in ids]


def summary(state: ProjectState, channels: Channels, recipe: Recipe | None) -> str:
    """The acquisition summary in Markdown: hours per channel, stations, and how it was blended."""
    lines = [
        f"# {state.name}",
        "",
        "| channel | from | subs | hours | SNR |",
        "|---|---|---:|---:|---:|",
    ]
    for row in summary_rows(state, channels, recipe):
        hours = f"{row.hours:.1f}" if row.hours else "-"
        snr = f"{row.snr:.1f}" if row.snr else "-"
        lines.append(
            f"| {row.channel} ({LONG_NAMES[row.channel]}) | {row.origin} | {row.subs or '-'} "
            f"| {hours} | {snr} |"
        )
    sources = used_sources(state, channels, recipe)
    lines += ["", f"Integration: {sum(s.hours or 0 for s in sources):.1f} h."]
    lines += dict.fromkeys(f"{s.station or 'Rig'}: {s.camera}." for s in sources if s.camera)
    if recipe is not None:
        settings = recipe.settings
        lines += [
            "",
            f"Blend: {mapping_words(settings.mapping)}, balance {settings.balance:.2f}"
            f"{' (automatic)' if settings.balance_auto else ''}, weights by SNR.",
        ]
    return "\n".join(lines) + "\n"


def mapping_words(mapping: str) -> str:
    """A mapping's title, or its formula."""
    titles = {m.id: m.title for m in (*MAPPINGS.values(), *FREE_PRESETS)}
    return titles.get(mapping, "own mix" if mapping == "free" else mapping.replace(",", ", "))
