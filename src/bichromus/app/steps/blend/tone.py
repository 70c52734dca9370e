"""Sliders bound to one setting each, and the two folds made of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ....core.model.recipe import Colour, Limits, Stretch
from ....workspace.session import Session
from ...bridge import Bridge
from ...widgets.fold import Fold
from ...widgets.slider import ValueSlider


class ValueBinding(QWidget):
    """One slider for one setting, named by its path (``stretch.strength``).

    The path ``limits`` scales all noise limits together.
    """

    def __init__(
        self,
        session: Session,
        name: str,
        path: str,
        low: float,
        high: float,
        default: float,
        tip: str,
        step: float = 0.01,
        text: Callable[[float], str] | None = None,
    ) -> None:
        super().__init__()
        self._session, self._name, self._path = session, name, path
        self.slider = ValueSlider(name, low, high, default, tip, step, text)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.slider)
        self.slider.moved.connect(lambda v: session.blend.show_settings(**self._changes(v)))
        self.slider.settled.connect(lambda v: session.blend.set_settings(name, **self._changes(v)))

    def _changes(self, value: float) -> dict[str, Any]:
        group, _, key = self._path.partition(".")
        if group == "limits":
            base = Limits().model_dump()
            return {"limits": {k: v * value for k, v in base.items()}}
        return {group: {key: value}} if key else {group: value}

    def show_state(self) -> None:
        """Show the value of the state."""
        state = self._session.state
        group, _, key = self._path.partition(".")
        found = getattr(state.blend, group)
        if group == "limits":
            self.slider.set_value(found.lightness / Limits().lightness)
        else:
            self.slider.set_value(getattr(found, key) if key else found)


class _ToneFold(Fold):
    """A fold of bindings whose note counts what differs from the default."""

    def __init__(
        self,
        title: str,
        session: Session,
        bridge: Bridge,
        group: str,
        default: Stretch | Colour,
        rows: list[tuple[str, str, float, float, str, float]],
    ) -> None:
        super().__init__(title)
        self._session, self._group, self._default = session, group, default
        self.bindings = {
            key: ValueBinding(
                session, name, f"{group}.{key}", low, high, getattr(default, key), tip, step
            )
            for name, key, low, high, tip, step in rows
        }
        for binding in self.bindings.values():
            self.add(binding)
        bridge.state.connect(self._count)
        self._count()

    def _count(self) -> None:
        now = getattr(self._session.state.blend, self._group)
        changed = sum(getattr(now, k) != getattr(self._default, k) for k in self.bindings)
        self.set_note(f"{changed} changed" if changed else "as it comes")


class StretchFold(_ToneFold):
    """The curve."""

    def __init__(self, session: Session, bridge: Bridge) -> None:
        super().__init__(
            "Stretch, asinh",
            session,
            bridge,
            "stretch",
            Stretch(),
            [
                (
                    "background",
                    "background",
                    0.02,
                    0.30,
                    "Where the empty sky lands: 0 is black, 1 is white.",
                    0.005,
                ),
                ("signal", "signal", 0.36, 0.80, "Where a typical part of the nebula lands.", 0.01),
                (
                    "strength",
                    "strength",
                    1.0,
                    16.0,
                    "How much faint light is lifted against bright light.",
                    0.1,
                ),
                (
                    "shoulder",
                    "shoulder",
                    0.45,
                    0.95,
                    "From here on bright light is held back, so that cores keep detail.",
                    0.01,
                ),
            ],
        )


class ColourFold(_ToneFold):
    """The colour steps."""

    def __init__(self, session: Session, bridge: Bridge) -> None:
        super().__init__(
            "Colour",
            session,
            bridge,
            "colour",
            Colour(),
            [
                (
                    "limit green",
                    "limit_green",
                    0.0,
                    1.0,
                    "Takes green off that nothing in the sky has; lightness stays.",
                    0.01,
                ),
                (
                    "limit magenta",
                    "limit_magenta",
                    0.0,
                    1.0,
                    "Takes magenta off, as it comes around stars; lightness stays.",
                    0.01,
                ),
                (
                    "saturation",
                    "saturation",
                    0.0,
                    2.5,
                    "Colour of the nebula; the noise of the sky is spared.",
                    0.01,
                ),
                (
                    "star colour",
                    "star_colour",
                    0.0,
                    1.0,
                    "0 leaves the stars white, 1 leaves them as they are blended.",
                    0.01,
                ),
            ],
        )
