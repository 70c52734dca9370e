"""Figures as they stand on the screen."""

from __future__ import annotations


def value_text(value: float) -> str:
    """A plane's value: three figures, small ones in millionths so that they can be compared at a
    glance.
    """
    size = abs(value)
    if size >= 1000:
        text = f"{value:,.0f}"
    elif size >= 1:
        text = f"{value:.2f}"
    elif size >= 0.01:
        text = f"{value:.4f}"
    else:
        text = f"{value * 1e6:.0f}e-6" if size >= 1e-5 else f"{value * 1e6:.1f}e-6"
    return f"−{text[1:]}" if text.startswith("-") else text


def snr_text(snr: float | None) -> str:
    """SNR: one decimal below 100."""
    if snr is None:
        return "–"
    return f"{snr:.1f}" if snr < 99.95 else f"{snr:.0f}"


def clock_text(hours: float | None) -> str:
    """Hours as 9h 20m."""
    if hours is None:
        return ""
    minutes = round(hours * 60)
    return f"{minutes // 60}h {minutes % 60:02d}m"


def seconds_text(seconds: float) -> str:
    """Remaining time: 8 s, 2 min."""
    return f"{max(1, round(seconds))} s" if seconds < 90 else f"{round(seconds / 60)} min"
