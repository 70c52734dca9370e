"""When the picture of a window stands."""

from __future__ import annotations

from bichromus.app.shell.window import Window
from bichromus.core.blend.inputs import kept_stars


def stands(window: Window) -> bool:
    """Whether the picture stands on starless layers, and nothing is under way."""
    session = window.session
    recipe = session.blend.snapshot.recipe
    return (
        recipe is not None
        and not kept_stars(recipe)
        and session.blend.snapshot.layers is session.layers.snapshot
        and bool(session.layers.snapshot.continua)
        and not session.jobs.busy
        and not session.previews.busy
    )
