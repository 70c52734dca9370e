"""What is white in red, green and blue: the middle star, a region drawn, or gains as typed."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ....core.model.channel import COLOURS
from ....core.model.recipe import Recipe
from ....workspace.session import Session
from ...widgets.fold import button, label
from ...widgets.plain import set_tip
from .bindings import ChoiceBinding, SwitchBinding, ValueBinding
from .rows import row_of
from .stage_frame import Rectangle, StageFrame

_FEW_STARS = 80
_LEAST_GAIN, _MOST_GAIN = 0.2, 5.0
_MIDDLE = 0.4  # of the picture: where a region begins to be drawn


class WhiteControls(QWidget):
    """The choice, what it comes to, and what each choice asks."""

    def __init__(self, session: Session, frame: StageFrame) -> None:
        super().__init__()
        self._session, self._frame = session, frame
        self.words = label("", "muted", wrap=True)
        set_tip(
            self.words, "Red, green and blue keep these ratios, however loud the nebula is in each."
        )
        self.by = WhiteChoice(session)
        self.by.region_wanted.connect(self.draw)
        self.field_hue = SwitchBinding(
            session,
            "field stars are warm",
            "white.field_hue",
            "the middle star is a warm one",
            "Most field stars are a little warmer than white: keep that hue.",
        )
        self.draw_button = button("Draw it…", "Draw the region that shall be white")
        self.draw_button.clicked.connect(self._toggle)
        self.take = button("Take it", "What the frame holds is white (Return)", "primary")
        self.take.clicked.connect(frame.accept)
        self.drawing = row_of(self.draw_button, self.take)
        self.gains = [GainBinding(session, i, name) for i, name in ((0, "red"), (2, "blue"))]
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        for part in (self.by, self.drawing, *self.gains, self.field_hue, self.words):
            column.addWidget(part)
        frame.changed.connect(self._show_drawing)
        self._show_drawing()

    def draw(self) -> None:
        """Show the frame: on the region that is white now, or in the middle."""
        renderer = self._session.blend.snapshot.renderer
        if renderer is None:
            return
        height, width = renderer.shape
        x, y = round(_MIDDLE * width), round(_MIDDLE * height)
        now = self._session.state.blend.white.region
        self._frame.begin(self, now or (x, y, width - x, height - y), self._taken)

    def _toggle(self) -> None:
        if self._frame.is_of(self):
            self._frame.leave()
        else:
            self.draw()

    def _taken(self, region: Rectangle | None) -> None:
        renderer = self._session.blend.snapshot.renderer
        if renderer is not None:
            whole = (0, 0, renderer.shape[1], renderer.shape[0])
            changes = {"by": "region", "region": region or whole}
            self._session.blend.set_settings("white by a region", white=changes)

    def _show_drawing(self) -> None:
        on = self._frame.is_of(self)
        self.drawing.setVisible(on or self._session.state.blend.white.by == "region")
        self.take.setVisible(on)
        self.draw_button.setText("Leave it" if on else "Draw it…")

    def show_recipe(self, recipe: Recipe) -> None:
        """Bring it up to a recipe that holds red, green and blue."""
        self.words.setText(white_words(recipe))
        by = self._session.state.blend.white.by
        self.field_hue.setVisible(by == "stars")
        for gain in self.gains:
            gain.setVisible(by == "typed")
        self._show_drawing()


class WhiteChoice(ChoiceBinding):
    """By what it is told. ``region_wanted``: there is no region yet."""

    region_wanted = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(
            session,
            "white",
            "white.by",
            (
                ("stars", "from the stars"),
                ("region", "from a region"),
                ("typed", "as typed"),
            ),
            "What is white in red, green and blue. The nebula's own loudness never tells it.",
        )

    def put(self, value: Any) -> None:
        white = self._session.state.blend.white
        if value == "region" and white.region is None:
            self.region_wanted.emit()
            self.show_state()
            return
        changes: dict[str, Any] = {"by": value}
        recipe = self._session.blend.snapshot.recipe
        if value == "typed" and recipe is not None:  # from where it is: nothing jumps
            changes["gains"] = recipe.figures.white.gains
        self._session.blend.set_settings("white", white=changes)


class GainBinding(ValueBinding):
    """The gain of red or blue over green."""

    def __init__(self, session: Session, index: int, name: str) -> None:
        self._index = index
        super().__init__(
            session,
            f"{name} gain",
            "white.gains",
            _LEAST_GAIN,
            _MOST_GAIN,
            1.0,
            f"How many times {name} is taken of what green is taken.",
            text=lambda v: f"× {v:.2f}",
        )

    def changes(self, value: Any) -> dict[str, Any]:
        gains = list(self._session.state.blend.white.gains)
        gains[self._index] = value
        return {"white": {"gains": tuple(gains)}}

    def show_state(self) -> None:
        self.slider.set_value(self._session.state.blend.white.gains[self._index])


def white_words(recipe: Recipe) -> str:
    """What the white came to."""
    white, by = recipe.figures.white, recipe.settings.white.by
    each = zip(COLOURS, white.gains, strict=True)
    gains = " · ".join(f"{n}\u00a0×\u00a0{g:.2f}" for n, g in each)
    if by == "region":
        return f"White from the region drawn: {gains}."
    if by == "typed":
        return f"White as typed: {gains}."
    if not white.stars:
        return "Too few stars tell the white: red, green and blue stand as they came."
    unsure = f", within {100 * (white.error or 0):.1f} %" if white.error else ""
    few = " only" if white.stars < _FEW_STARS else ""
    return f"White from{few} {white.stars} stars{unsure}: {gains}."
