"""Writing the picture, and the words that go with it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from ...core.blend.mappings import mapping_words
from ...core.files import FORMATS, blend_header, read_fits_header, write_picture
from ...core.files.atomic import check_output
from ...core.model.channel import LONG_NAMES
from ...core.model.planes import Header
from ...core.model.progress import SILENT, Progress
from ...core.model.recipe import Recipe
from ..channels.build import Channels
from ..channels.steps import stacks_behind
from ..project.state import ProjectState, PublishState, SourceState
from ..viewing.renderer import ChannelRenderer


@dataclass(frozen=True)
class OutputFile:
    """One file to be written."""

    path: Path
    format_id: str


def output_files(folder: Path, stem: str, publish: PublishState) -> list[OutputFile]:
    """The files that publishing into ``folder`` would write."""
    chosen = [FORMATS[i] for i in publish.formats]
    return [OutputFile(folder / f"{stem}{f.tail}{f.suffix}", f.id) for f in chosen]


def output_shape(shape: tuple[int, int], longest: int | None) -> tuple[int, int]:
    """Height and width when the longest side is held to ``longest`` pixels; never larger than the
    data.
    """
    if longest is None or longest >= max(shape):
        return shape
    scale = longest / max(shape)
    return max(1, round(shape[0] * scale)), max(1, round(shape[1] * scale))


def write_all(
    renderer: ChannelRenderer,
    recipe: Recipe,
    wanted: list[OutputFile],
    publish: PublishState,
    sources: list[Path],
    overwrite: bool,
    progress: Progress = SILENT,
) -> list[Path]:
    """Write every target, each whole or not at all. Raises OutputRefused before anything is
    written, WriteFailed, Cancelled.
    """
    for target in wanted:
        check_output(target.path, overwrite, sources)
    whole = renderer.shape_of(recipe)
    shape = output_shape(whole, publish.longest)
    # a picture made smaller, cut or turned no longer fits the sky coordinates of its stacks
    same = bool(sources) and shape == renderer.shape and not renderer.blender.placement(recipe)
    header = blend_header(read_fits_header(sources[0])) if same else Header()
    for number, target in enumerate(wanted):
        part = progress.part(number / len(wanted), (number + 1) / len(wanted))
        chosen = FORMATS[target.format_id]
        bands = renderer.blender.bands(
            recipe, shape, chosen.dtype, part, f"writing {target.path.name}"
        )
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


@dataclass(frozen=True)
class SummaryRow:
    """One channel of the picture: where it came from and what it took. ``subs`` counts stack by
    stack, ``lengths`` those of one length together.
    """

    channel: str
    origin: str
    subs: str
    hours: float | None
    snr: float | None
    lengths: str


def summary_rows(
    state: ProjectState, channels: Channels, recipe: Recipe | None
) -> list[SummaryRow]:
    """A row for each channel that the picture uses; of all channels while there is no picture."""
    used = recipe.settings.used() if recipe else tuple(channels.names)
    rows = []
    for name in channels.names:
        if name in used:
            prepared = channels.channel(name)
            parts = [
                (s.subs, s.sub_s)
                for s in stacks_behind(channels, state.preparation, prepared)
                if s.subs and s.sub_s
            ]
            lengths: Counter[float] = Counter()
            for count, seconds in parts:
                lengths[seconds] += count
            words, short = subs_words(parts), subs_words([(n, t) for t, n in lengths.items()])
            hours, snr = prepared.hours, prepared.measure.snr
            rows.append(SummaryRow(name, prepared.label, words, hours, snr, short))
    return rows


def subs_words(parts: Sequence[tuple[int, float]]) -> str:
    """Counts of subs and their length in seconds, as in 76 × 300 s + 60 × 120 s."""
    return " + ".join(f"{count} × {seconds:.0f} s" for count, seconds in parts)


def used_sources(
    state: ProjectState, channels: Channels, recipe: Recipe | None
) -> list[SourceState]:
    """The stacks that the picture stands on, each once."""
    used = recipe.settings.used() if recipe else tuple(channels.names)
    ids = {
        s.id
        for n in channels.names
        if n in used
        for s in stacks_behind(channels, state.preparation, channels.channel(n))
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
