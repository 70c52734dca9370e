"""The process record: how a picture came about, step by step with its figures, so that another can
repeat it; as words and as data.
"""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, Final

from ...core.blend.telling import told
from ...core.model.channel import LONG_NAMES
from ...core.model.recipe import RECORD, Recipe
from ..channels.build import Channels
from ..channels.prepared import Prepared
from ..channels.steps import chain_of, members_of, stacks_behind
from ..log.summary import Summary, write_summary
from ..project.state import PreparationState, ProjectState, SourceState, VersionState

_VERSION: Final = 1
_POOL: Final = "Pool"  # the step of the chain whose members are told


@dataclass(frozen=True)
class Made:
    """What a record is about: the picture's channels and recipe, its summary, and the version that
    it was kept as.
    """

    state: ProjectState
    channels: Channels
    recipe: Recipe
    summary: Summary
    version: VersionState | None = None
    now: dt.datetime | None = None

    @property
    def used(self) -> list[str]:
        """Channels that the picture is made of, in their usual order."""
        return [n for n in self.channels.names if n in self.recipe.used()]


def record_data(made: Made) -> dict[str, Any]:
    """The record as data. Stacks are told by name and content, never by where they lie."""
    wanted = made.state.preparation
    return {
        "format": RECORD,
        "version": _VERSION,
        "made_by": made.recipe.made_by,
        "written": made.now.isoformat(timespec="seconds") if made.now else None,
        "target": made.state.name,
        "picture": made.version.name if made.version else None,
        "summary": json.loads(write_summary(made.summary, "json")),
        "stacks": [_stack(made, s) for s in _sources(made)],
        "channels": {
            n: _channel(made.channels, wanted, made.channels.channel(n)) for n in made.used
        },
        "blend": dict(told(made.recipe)),
        "recipe": made.recipe.model_dump(),
    }


def record_text(data: dict[str, Any]) -> str:
    """The same record in Markdown."""
    title = data["target"] + (f", {data['picture']}" if data["picture"] else "")
    lines = [f"# How {title} came about", ""]
    if data["written"]:
        lines += [f"Written {data['written']} by {data['made_by']}.", ""]
    lines += ["## 1. Stacks", ""]
    for stack in data["stacks"]:
        parts = [
            "+".join(stack["lines"]),
            stack["station"],
            stack["camera"],
            f"{stack['subs']} × {stack['sub_s']:g} s" if stack["subs"] and stack["sub_s"] else "",
            f"{stack['hours']:.2f} h" if stack["hours"] else "",
            f"{stack['size'][0]} × {stack['size'][1]} px",
            stack["registration"],
        ]
        lines.append(f"- `{stack['file']}`: {', '.join(p for p in parts if p)}")
    lines += ["", "## 2. Channels", ""]
    for name, channel in data["channels"].items():
        lines += _channel_lines(name, channel)
    lines += ["## 3. Blend", ""]
    lines += [f"- **{step}**: {words}" for step, words in data["blend"].items()]
    lines += [
        "",
        "The recipe stands in the JSON file of the same name: on the same channels it makes the "
        "same pixels.",
    ]
    return "\n".join(lines) + "\n"


def _sources(made: Made) -> list[SourceState]:
    wanted, channels = made.state.preparation, made.channels
    ids = {s.id for n in made.used for s in stacks_behind(channels, wanted, channels.channel(n))}
    return [s for s in wanted.sources if s.id in ids]


def _stack(made: Made, source: SourceState) -> dict[str, Any]:
    lies = made.channels.registration.stacks.get(source.id)
    return {
        "file": Path(source.path).name,
        "sha256": source.hash,
        "lines": list(source.lines),
        "station": source.station,
        "camera": source.camera,
        "hours": source.hours,
        "subs": source.subs,
        "sub_s": source.sub_s,
        "size": [source.shape[1], source.shape[0]],
        "registration": lies.words if lies is not None else "",
    }


def _channel(channels: Channels, wanted: PreparationState, prepared: Prepared) -> dict[str, Any]:
    measure, notes = prepared.measure, prepared.notes
    steps = chain_of(channels, wanted, prepared.id) if prepared.id in channels.origins else []
    return {
        "from": prepared.label,
        "hours": prepared.hours,
        "noise_px": measure.noise.sigma_px,
        "noise_eff": measure.noise.sigma_eff,
        "noise_by": measure.noise.method,
        "signal": measure.signal_own,
        "snr": measure.snr,
        "fwhm_px": measure.stars.fwhm_px,
        "steps": [{"step": s.title, "result": s.words} for s in steps if s.on is not False],
        "gradients": [
            {"of": m.label, "degree": g.degree, "before_sigma": g.before, "after_sigma": g.after}
            for m in members_of(channels, prepared)
            if (g := m.notes.gradient) is not None
        ],
        "extraction": _extraction(members_of(channels, prepared)),
        "pool": [
            {
                "stack": p.label,
                "weight": p.weight,
                "flux_scale": p.flux,
                "flux_from": p.flux_from,
                "rejected": p.rejected,
                "noise": p.sigma,
                "fwhm_px": p.fwhm_px,
                "left_out": p.left_out,
            }
            for p in (notes.pool.parts if notes.pool else ())
        ],
        "continuum": asdict(notes.continuum) if notes.continuum else None,
        "warnings": list(notes.warnings),
    }


def _extraction(members: Sequence[Prepared]) -> list[dict[str, Any]]:
    return [
        {
            "of": m.label,
            "snr_gain": note.snr_gain,
            "stacks": note.stacks,
            "leaks": note.table,
            "scale": note.scale,
        }
        for m in members
        if (note := m.notes.extraction) is not None
    ]


def _channel_lines(name: str, channel: dict[str, Any]) -> list[str]:
    figures = [
        f"from {channel['from']}",
        f"{channel['hours']:.2f} h" if channel["hours"] else "",
        f"noise {channel['noise_px']:.4g} per pixel",
        f"SNR {channel['snr']:.1f}" if channel["snr"] else "",
        f"stars {channel['fwhm_px']:.2f} px" if channel["fwhm_px"] else "",
    ]
    lines = [f"### {name} ({LONG_NAMES[name]})", "", f"{', '.join(f for f in figures if f)}.", ""]
    for step in channel["steps"]:
        lines.append(f"- **{step['step']}**: {step['result']}")
        if step["step"] == _POOL:
            lines += _pool_lines(channel["pool"])
    if channel["continuum"]:
        c = channel["continuum"]
        lines.append(f"- {c['k']:.4f} of {c['broad']} taken off, told by {c['stars']} stars")
    return [*lines, ""]


def _pool_lines(parts: list[dict[str, Any]]) -> list[str]:
    lines = []
    for part in parts:
        words = (
            "left out"
            if part["left_out"]
            else (
                f"weight {part['weight']:.3f}, light × {part['flux_scale']:.4f} (by "
                f"{part['flux_from']}), {part['rejected']:.3%} of its pixels rejected"
            )
        )
        lines.append(f"  - {part['stack']}: {words}")
    return lines
