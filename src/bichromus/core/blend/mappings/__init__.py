"""Mappings: which channel goes where. One module a mapping.

A module of this folder holds a ``MAPPING``, or a tuple of them: it is found by itself and appears
in the palette sheet, on the command line and in its help.
"""

from __future__ import annotations

from collections.abc import Collection
from functools import partial
from typing import Final

from ...model.channel import WAVELENGTH_NM
from ...model.errors import UnknownName
from ...model.registry import HELPERS, find_entries
from ...model.settings import OUTPUTS, BlendSettings
from .base import Mapping, Mix
from .formula import formula_mix, parse_mapping

__all__ = [
    "FREE",
    "MAPPINGS",
    "Mapping",
    "Mix",
    "available_mappings",
    "find_mappings",
    "lifted_lines",
    "mapping_mix",
    "mapping_words",
    "named_mappings",
    "parse_mapping",
]

FREE: Final = "free"
"""Id of the person's own mix, which stands in the settings."""


def find_mappings(package: str = __name__) -> dict[str, Mapping]:
    """The mappings of a package's modules by id, in the order of the sheet. Raises TypeError and
    ValueError as ``find_entries``.
    """
    return find_entries(package, "MAPPING", Mapping, (*HELPERS, "formula"))


MAPPINGS: Final = find_mappings()


def named_mappings() -> list[str]:
    """Ids of the mappings that have a name of their own and are no formula."""
    return [i for i in MAPPINGS if "=" not in i]


def available_mappings(channels: Collection[str]) -> list[Mapping]:
    """Mappings that these channels allow; where none fits, one by wavelength."""
    fitting = [m for m in MAPPINGS.values() if not m.missing(channels)]
    return fitting or ([_by_wavelength(channels)] if channels else [])


def _by_wavelength(channels: Collection[str]) -> Mapping:
    """The longest wavelength red, the shortest blue; a single channel grey."""
    order = sorted(channels, key=lambda n: -WAVELENGTH_NM[n])
    red, blue = order[0], order[-1]
    green = order[len(order) // 2]
    alone = len(order) == 1
    title = f"{red} alone, grey" if alone else f"By wavelength, {red}-{green}-{blue}"
    formula = f"R={red},G={green},B={blue}"
    words = f"{red} red, {green} green, {blue} blue"
    needs = tuple(dict.fromkeys((red, green, blue)))
    return Mapping(formula, title, words, needs, partial(formula_mix, formula))


def mapping_mix(settings: BlendSettings, channels: Collection[str]) -> Mix:
    """The mix of ``settings.mapping`` with these channels. Raises UnknownName when it cannot be."""
    name = settings.mapping
    if name == FREE:
        return {o: dict(settings.mix.get(o, {})) for o in OUTPUTS}  # type: ignore[call-overload]
    if "=" in name:
        return parse_mapping(name, channels)
    if name not in MAPPINGS:
        known = ", ".join(named_mappings())
        raise UnknownName(
            f"No mapping is called {name!r}",
            do=f"Use one of {known}, or a free one as R=S2,G=0.8*Ha+0.2*O3,B=O3",
        )
    missing = MAPPINGS[name].missing(channels)
    if missing:
        raise UnknownName(
            f"The mapping {name} needs {missing}",
            why=f"the channels here are {', '.join(channels) or 'none'}",
            do="Add the channel or choose another mapping",
        )
    return MAPPINGS[name].mix(settings, channels)


def lifted_lines(mapping: str, channels: Collection[str]) -> tuple[str, ...]:
    """The lines that a mapping lays on top of its mix, of those that are there."""
    known = MAPPINGS.get(mapping)
    return tuple(n for n in known.lifts if n in channels) if known is not None else ()


def mapping_words(mapping: str) -> str:
    """A mapping's title, or its formula."""
    known = MAPPINGS.get(mapping)
    if known is not None:
        return known.title
    return "own mix" if mapping == FREE else mapping.replace(",", ", ")
