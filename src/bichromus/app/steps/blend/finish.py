"""How the picture is presented: cropped, mirrored, turned. The channels are untouched."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from ....core.model.settings import Finish
from ...canvas.crop import whole_frame
from ...widgets.choice import ChoiceBox
from ...widgets.fold import button, label
from ...widgets.slider import ValueSlider
from ..step import StepContext
from .bindings import SwitchBinding
from .section import Section

_RATIOS: Final = (
    ("free", 0.0),
    ("as it was shot", -1.0),
    ("square", 1.0),
    ("5 : 4", 1.25),
    ("4 : 3", 4 / 3),
    ("3 : 2", 1.5),
    ("16 : 9", 16 / 9),
    ("4 : 5, upright", 0.8),
    ("2 : 3, upright", 2 / 3),
)
_FLIPS: Final = {"": (False, False), "horizontal": (True, False), "vertical": (False, True)}
_FREE_DEG: Final = 45.0


class FinishSection(Section):
    """Crop, flip, turn; what is seen is what is written."""

    title = "Finish"

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.crop_button = button("Crop…", "Draw what is kept, over the whole picture (Shift+F)")
        self.crop_button.clicked.connect(self.toggle_crop)
        self.take = button("Take it", "Keep what is inside the frame (Return)", "primary")
        self.take.clicked.connect(self.take_crop)
        self.ratio = ChoiceBox("proportions", "Proportions that the frame keeps")
        self.ratio.addItems([words for words, _ in _RATIOS])
        self.ratio.activated.connect(self._hold_ratio)
        self.cropping = row_of(self.ratio, self.take)
        self.flips = row_of(
            self._does("left ↔ right", "Swap left and right", self.flip_across),
            self._does("top ↕ bottom", "Swap top and bottom", self.flip_down),
        )
        self.turns = row_of(
            self._does("⟲ quarter", "Turn a quarter to the left", lambda: self.turn_by(-90)),
            self._does("⟳ quarter", "Turn a quarter to the right", lambda: self.turn_by(90)),
            self._does(
                "north up",
                "North up and east to the left, where the stacks know their place",
                self.session.blend.turn_north_up,
            ),
        )
        self.free = ValueSlider(
            "turn freely",
            -_FREE_DEG,
            _FREE_DEG,
            0.0,
            "Turn clockwise about the middle.",
            0.1,
            lambda v: f"{v:+.1f}°",
        )
        self.free.moved.connect(lambda v: self._show(turn=self._quarters() + v))
        self.free.settled.connect(lambda v: self._set("turn", turn=self._quarters() + v))
        self.trim = SwitchBinding(
            self.session,
            "cut empty corners",
            "finish.trim",
            "cut the corners that a turn leaves empty",
            "Off: the picture grows to hold all of it, the corners are sky.",
        )
        self.reset = self._does("as it was shot", "No crop, no flip, no turn", self.undo_all)
        self.words = label("", "muted", wrap=True)
        self.add_all(
            row_of(self.crop_button, self.reset),
            self.cropping,
            self.flips,
            self.turns,
            self.free,
            self.trim,
            self.words,
        )
        context.canvas.cropped.connect(self._show_size)
        context.canvas.accepted.connect(self.take_crop)
        self.cropping.setVisible(False)

    def _does(self, text: str, tip: str, run: Callable[[], object]) -> QPushButton:
        made = button(text, tip)
        made.clicked.connect(lambda _checked=False: run())
        return made

    @property
    def finish(self) -> Finish:
        """As it is set now."""
        return self.session.state.blend.finish

    def _set(self, label_: str, **changes: object) -> None:
        self.session.blend.set_settings(label_, finish=changes)

    def _show(self, **changes: object) -> None:
        self.session.blend.show_settings(finish=changes)

    def _quarters(self) -> float:
        return 90.0 * round(self.session.document.saved.blend.finish.turn / 90)

    # --- flip and turn ---

    def flip_across(self) -> None:
        """Swap left and right as they are seen."""
        self._flip(across=not self._sideways())

    def flip_down(self) -> None:
        """Swap top and bottom as they are seen."""
        self._flip(across=self._sideways())

    def _sideways(self) -> bool:
        """Whether what is across on the screen is down on the grid."""
        return round(self.finish.turn / 90) % 2 == 1

    def _flip(self, across: bool) -> None:
        """A flip of what is seen: before the turn it is the other way about, and the turn is
        undone to the other side.
        """
        now = _FLIPS.get(self.finish.flip, (True, True))
        wanted = (not now[0], now[1]) if across else (now[0], not now[1])
        names = {v: k for k, v in _FLIPS.items()}
        flip = names.get(wanted, "both")
        free = self.finish.turn - 90.0 * round(self.finish.turn / 90)
        turn = 90.0 * round(self.finish.turn / 90) - free
        self._set("flip", flip=flip, turn=turn)

    def turn_by(self, degrees: float) -> None:
        """Turn by quarters."""
        turn = (self.finish.turn + degrees + 180) % 360 - 180
        self._set("turn", turn=round(turn, 3))

    def undo_all(self) -> None:
        """As the channels lie."""
        self._set("as it was shot", crop=None, flip="", turn=0.0)

    # --- crop ---

    @property
    def is_cropping(self) -> bool:
        """Whether the frame is on the stage."""
        return self.context.canvas.frame is not None

    def toggle_crop(self) -> None:
        """Show the frame over the whole picture, or put it away."""
        if self.is_cropping:
            self.leave_crop()
            return
        renderer = self.snapshot.renderer
        if renderer is None:
            return
        canvas = self.context.canvas
        canvas.set_alone(None, None, renderer.shape, whole=True)
        canvas.set_frame(whole_frame(renderer.shape, self.finish.crop))
        canvas.setFocus()
        self.ratio.setCurrentIndex(0)
        self.cropping.setVisible(True)
        self.crop_button.setText("Leave it")
        self._show_size()

    def take_crop(self) -> None:
        """Keep what is inside the frame."""
        frame, renderer = self.context.canvas.frame, self.snapshot.renderer
        if frame is None or renderer is None:
            return
        height, width = renderer.shape
        crop = frame.rectangle if frame.rectangle != (0, 0, width, height) else None
        self.leave_crop()
        if crop != self.finish.crop:
            self._set("crop", crop=crop)

    def leave_crop(self) -> None:
        """Put the frame away."""
        if not self.is_cropping:
            return
        self.context.canvas.set_frame(None)
        self.context.canvas.set_alone(None)
        self.cropping.setVisible(False)
        self.crop_button.setText("Crop…")
        self._show_size()

    def _hold_ratio(self, index: int) -> None:
        frame = self.context.canvas.frame
        if frame is None:
            return
        ratio = _RATIOS[index][1]
        if ratio < 0:
            ratio = frame.shape[1] / frame.shape[0]
        self.context.canvas.set_frame(frame.with_ratio(ratio))
        self._show_size()

    # --- what is shown ---

    def _show_size(self) -> None:
        frame = self.context.canvas.frame
        if frame is not None:
            x0, y0, x1, y1 = frame.rectangle
            self.words.setText(f"Keeps {x1 - x0} × {y1 - y0} px.")
        else:
            self.words.setText("")
        self.words.setVisible(bool(self.words.text()))

    def state_line(self) -> str:
        renderer, recipe = self.snapshot.renderer, self.snapshot.recipe
        finish = self.finish
        if renderer is None or recipe is None:
            return ""
        parts = []
        height, width = renderer.shape_of(recipe)
        if finish.crop:
            parts.append("cropped")
        if finish.flip:
            parts.append("flipped")
        if finish.turn:
            parts.append(f"turned {finish.turn:+g}°")
        size = f"{width} × {height}"
        return f"{', '.join(parts)}, {size}" if parts else f"whole, {size}"

    def show_state(self) -> None:
        super().show_state()
        free = self.finish.turn - 90.0 * round(self.finish.turn / 90)
        self.free.set_value(round(free, 1))


def row_of(*widgets: QWidget) -> QWidget:
    """Widgets side by side."""
    made = QWidget()
    row = QHBoxLayout(made)
    row.setContentsMargins(0, 2, 0, 2)
    row.setSpacing(6)
    for widget in widgets:
        widget.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Fixed)
        widget.setMinimumWidth(20)
        row.addWidget(widget)
    row.addStretch(1)
    return made
