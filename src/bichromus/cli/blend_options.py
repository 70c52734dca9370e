"""The options of ``blend``, and the settings that they make of a recipe's."""

from __future__ import annotations

import argparse
from typing import Any

from ..core.blend.mappings import named_mappings
from ..core.model.errors import InputError
from ..core.model.recipe import Recipe
from ..core.model.settings import BlendSettings, CleanSettings


def add_options(parser: argparse.ArgumentParser) -> None:
    """What a picture is made of, and how."""
    several: dict[str, Any] = {"action": "extend", "nargs": "+", "metavar": "NAME=FILE"}
    parser.add_argument("--channel", required=True, help="a channel of the picture", **several)
    parser.add_argument(
        "--stars",
        default=[],
        help="star layers; the channels of these names are then starless",
        **several,
    )
    parser.add_argument("--split", action="store_true", help="split the stars off here")
    parser.add_argument(
        "--mapping",
        metavar="ID",
        help=f"{', '.join(named_mappings())}, or free: R=S2,G=0.8*Ha+0.2*O3,B=O3",
    )
    parser.add_argument("--balance", metavar="auto|0..1", help="0 colour, 1 clean (default: auto)")
    parser.add_argument("--green-share", metavar="auto|0..1", help="O3's share of a shared green")
    parser.add_argument(
        "--white", metavar="stars|GR,GG,GB", help="gains of red, green and blue (default: stars)"
    )
    parser.add_argument("--star-source", choices=("rgb", "lines", "none"), help="which stars")
    parser.add_argument("--star-size", metavar="0..1", help="1 as they are, less is smaller")
    parser.add_argument("--star-brightness", metavar="0..2", help="1 as they are")
    parser.add_argument("--ha-amount", metavar="0..2", help="of Ha on red, green and blue")
    parser.add_argument("--ha-as", choices=("red", "lift", "both"), help="as colour or lightness")
    parser.add_argument(
        "--no-continuum", action="store_true", help="leave the continuum in the lines"
    )
    parser.add_argument(
        "--luminance", choices=("none", "L", "C", "Ha", "synthetic"), help="whose lightness"
    )
    parser.add_argument("--luminance-amount", metavar="0..1", help="of that lightness")
    parser.add_argument(
        "--clean", metavar="auto|0..1", help="noise taken off starless channels (default: auto)"
    )
    parser.add_argument("--crop", metavar="X0,Y0,X1,Y1", help="what is kept, in pixels, half-open")
    parser.add_argument("--flip", choices=("horizontal", "vertical"), help="after the crop")
    parser.add_argument("--rotate", metavar="DEG", help="clockwise, after crop and flip")
    parser.add_argument("--recipe", metavar="FILE", help="take the settings of a saved recipe")


def blend_settings(options: argparse.Namespace, given: Recipe | None) -> BlendSettings:
    """The settings of a recipe, changed by options. Raises InputError."""
    base = given.settings if given else BlendSettings()
    if not options.mapping and not given:
        raise InputError(
            "No mapping is given", do="Add --mapping, for example --mapping bicolour-shared"
        )
    changed: dict[str, Any] = {"mapping": options.mapping, "mix": {}} if options.mapping else {}
    if options.balance is not None:
        auto, value = _auto(options.balance, "balance", 1.0)
        changed |= {"balance_auto": auto} | ({} if auto else {"balance": value})
    if options.green_share is not None:
        auto, value = _auto(options.green_share, "share of green", 1.0)
        changed |= {"green_auto": auto} | ({} if auto else {"green_share": value})
    if options.clean is not None:
        auto, value = _auto(options.clean, "amount of cleaning", 1.0)
        changed["cleaning"] = CleanSettings(
            auto=auto, amount=base.cleaning.amount if auto else value
        )
    changed["white"] = _white(options.white, base)
    changed["stars"] = _group(
        base.stars,
        source=options.star_source,
        size=_number(options.star_size, "star size", 1.0),
        brightness=_number(options.star_brightness, "star brightness", 2.0),
    )
    amount = _number(options.ha_amount, "amount of Ha", 2.0)
    changed["lift"] = _group(
        base.lift,
        amount=None if amount is None else {**base.lift.amount, "Ha": amount},
        by=options.ha_as,
        continuum=False if options.no_continuum else None,
    )
    changed["luminance"] = _group(
        base.luminance,
        source=options.luminance,
        amount=_number(options.luminance_amount, "amount of luminance", 1.0),
    )
    changed["finish"] = _group(
        base.finish,
        crop=_crop(options.crop),
        flip=options.flip,
        turn=_degrees(options.rotate),
        trim=False if options.rotate is not None else None,
    )
    if (options.stars or options.split) and changed["stars"].source == "kept":
        changed["stars"] = changed["stars"].model_copy(update={"source": "auto"})
    return base.model_copy(update=changed)


def _group(group: Any, **values: Any) -> Any:
    return group.model_copy(update={k: v for k, v in values.items() if v is not None})


def _crop(text: str | None) -> tuple[int, ...] | None:
    if text is None:
        return None
    try:
        parts = tuple(int(p) for p in text.split(","))
    except ValueError:
        parts = ()
    if len(parts) != 4 or parts[2] <= parts[0] or parts[3] <= parts[1]:
        raise InputError(
            f"The crop {text!r} cannot be used",
            do="Give X0,Y0,X1,Y1 in whole pixels, the second corner beyond the first",
        )
    return parts


def _degrees(text: str | None) -> float | None:
    if text is None:
        return None
    try:
        value = float(text)
    except ValueError:
        value = float("nan")
    if not -360 <= value <= 360:
        raise InputError(f"The turn {text!r} cannot be used", do="Give degrees from -360 to 360")
    return value


def _white(text: str | None, base: BlendSettings) -> Any:
    if text is None:
        return base.white
    if text == "stars":
        return base.white.model_copy(update={"by": "stars"})
    try:
        gains = tuple(float(p) for p in text.split(","))
    except ValueError:
        gains = ()
    if len(gains) != 3 or not all(0 < g < 1000 for g in gains):
        raise InputError(
            f"The white {text!r} cannot be used",
            do="Give stars, or three gains above 0, as in 1.2,1,1.4",
        )
    return base.white.model_copy(update={"by": "typed", "gains": gains})


def _auto(text: str, what: str, top: float) -> tuple[bool, float]:
    if text == "auto":
        return True, 0.0
    try:
        return False, _within(text, top)
    except ValueError as error:
        raise InputError(
            f"The {what} {text!r} cannot be used", do=f"Give auto, or a number from 0 to {top:g}"
        ) from error


def _number(text: str | None, what: str, top: float) -> float | None:
    if text is None:
        return None
    try:
        return _within(text, top)
    except ValueError as error:
        raise InputError(
            f"The {what} {text!r} cannot be used", do=f"Give a number from 0 to {top:g}"
        ) from error


def _within(text: str, top: float) -> float:
    value = float(text)
    if not 0 <= value <= top:
        raise ValueError(text)
    return value
