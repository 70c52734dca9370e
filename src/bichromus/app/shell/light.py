"""Themes and the red light; what was chosen for the day is remembered."""

from __future__ import annotations

from ...workspace.library.settings import Settings
from ..theme.look import LOOK, THEMES


def use_theme(settings: Settings, theme_id: str) -> None:
    """Use a theme; the red light is never what is remembered."""
    if theme_id != "red":
        settings.set("theme", theme_id)
    LOOK.use(theme_id)


def toggle_red(settings: Settings) -> None:
    """Red light on or off."""
    use_theme(settings, str(settings.get("theme", "dusk")) if LOOK.theme.red_only else "red")


def cycle_theme(settings: Settings) -> None:
    """The next theme."""
    ids = list(THEMES)
    use_theme(settings, ids[(ids.index(LOOK.theme.id) + 1) % len(ids)])
