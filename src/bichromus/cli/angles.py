"""Numbers, angles, dates and sizes as they are typed."""

from __future__ import annotations

import argparse
import datetime as dt
import math
import re

_FIGURE = r"(\d+(?:\.\d*)?)"
_PARTS = re.compile(
    rf"([+-]?)\s*{_FIGURE}\s*[hd°:\s]\s*(?:{_FIGURE}\s*[m'′:\s]?\s*)?(?:{_FIGURE}\s*[s\"″]?)?"
)


def number(text: str) -> float:
    """A finite number."""
    try:
        value = float(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is no number") from error
    if not math.isfinite(value):
        raise argparse.ArgumentTypeError(f"{text!r} is no finite number")
    return value


def not_negative(text: str) -> float:
    """A number of 0 or more."""
    value = number(text)
    if value < 0:
        raise argparse.ArgumentTypeError(f"{text} is below zero")
    return value


def share(text: str) -> float:
    """A number from 0 to 1."""
    value = number(text)
    if not 0 <= value <= 1:
        raise argparse.ArgumentTypeError(f"{text} is not from 0 to 1")
    return value


def _sexagesimal(text: str) -> float:
    match = _PARTS.fullmatch(text.strip())
    if match is None:
        raise argparse.ArgumentTypeError(f"{text!r} is no angle")
    sign, whole, minutes, seconds = match.groups()
    parts = [float(whole), float(minutes or 0), float(seconds or 0)]
    if parts[1] >= 60 or parts[2] >= 60:
        raise argparse.ArgumentTypeError(f"{text!r} has 60 or more minutes or seconds")
    return (-1 if sign == "-" else 1) * (parts[0] + parts[1] / 60 + parts[2] / 3600)


def right_ascension(text: str) -> float:
    """Degrees, or hours as in 11h24m00s."""
    try:
        return number(text)
    except argparse.ArgumentTypeError:
        value = _sexagesimal(text)
        return value * 15 if "d" not in text and "°" not in text else value


def declination(text: str) -> float:
    """Degrees, or as in -59d10m00s."""
    try:
        return number(text)
    except argparse.ArgumentTypeError:
        return _sexagesimal(text)


def date(text: str) -> dt.date:
    """YYYY-MM-DD."""
    try:
        return dt.date.fromisoformat(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is no date; write it as 2027-03-17") from error


def moment(text: str) -> dt.datetime:
    """A UTC time as ISO 8601."""
    try:
        found = dt.datetime.fromisoformat(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(
            f"{text!r} is no time; write it as 2027-03-17T10:30:00Z"
        ) from error
    return found.replace(tzinfo=dt.UTC) if found.tzinfo is None else found


def pair(text: str) -> tuple[float, float]:
    """``WxH``, both above zero."""
    parts = text.lower().replace("×", "x").split("x")
    if len(parts) != 2:
        raise argparse.ArgumentTypeError(f"{text!r} is no size; write it as 23.5x15.7")
    first, second = number(parts[0]), number(parts[1])
    if min(first, second) <= 0:
        raise argparse.ArgumentTypeError(f"{text} is not above zero")
    return first, second


def positive(text: str) -> float:
    """A number above zero."""
    try:
        value = float(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is no number") from error
    if not value > 0 or math.isinf(value):
        raise argparse.ArgumentTypeError(f"{text} is not above zero")
    return value
