"""Kinds of target, and what the catalogue's types belong to."""

from __future__ import annotations

from typing import Final, Literal, get_args

Kind = Literal["emission", "planetary", "remnant", "galaxy", "reflection", "cluster", "dark"]
KINDS: Final[tuple[Kind, ...]] = get_args(Kind)
KIND_OF: Final[dict[str, Kind]] = {
    "HII": "emission",
    "EmN": "emission",
    "Neb": "emission",
    "Cl+N": "emission",
    "PN": "planetary",
    "SNR": "remnant",
    "G": "galaxy",
    "GPair": "galaxy",
    "GTrpl": "galaxy",
    "GGroup": "galaxy",
    "RfN": "reflection",
    "OCl": "cluster",
    "GCl": "cluster",
    "*Ass": "cluster",
    "DrkN": "dark",
}
"""By type of the catalogue; others are no target."""
