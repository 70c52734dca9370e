"""How the picture is presented: cropped, mirrored, turned. The channels are untouched."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

from PyQt6.QtWidgets import QPushButton

from ....core.model.settings import Finish
from ...widgets.choice import ChoiceBox
from ...widgets.fold import button, label
from ...widgets.slider import ValueSlider
from ..step import StepContext
from .bindings import SwitchBinding
from .rows import row_of
from .section import Section
from .stage_frame import Rectangle, StageFrame

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

    def __init__(self, context: StepContext, frame: StageFrame) -> None:
        super().__init__(context)
        self._frame = frame
        self.crop_button = button("Crop…", "Draw what is kept, over the whole picture (Shift+F)")
        self.crop_button.clicked.connect(self.toggle_crop)
        self.take = button("Take it", "Keep what is inside the frame (Return)", "primary")
        self.take.clicked.connect(frame.accept)
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
        frame.changed.connect(self._show_cropping)
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
        """Whether the frame is on the stage for a crop."""
        return self._frame.is_of(self)

    def toggle_crop(self) -> None:
        """Show the frame over the whole picture, or put it away."""
        if self.is_cropping:
            self._frame.leave()
            return
        self.ratio.setCurrentIndex(0)
        self._frame.begin(self, self.finish.crop, self._take_crop)

    def _take_crop(self, crop: Rectangle | None) -> None:
        if crop != self.finish.crop:
            self._set("crop", crop=crop)

    def _hold_ratio(self, index: int) -> None:
        if self.is_cropping:
            self._frame.hold(_RATIOS[index][1])

    # --- what is shown ---

    def _show_cropping(self) -> None:
        frame = self._frame.frame
        on = self.is_cropping and frame is not None
        self.cropping.setVisible(on)
        self.crop_button.setText("Leave it" if on else "Crop…")
        self.words.setVisible(on)
        if on and frame is not None:
            x0, y0, x1, y1 = frame.rectangle
            self.words.setText(f"Keeps {x1 - x0} × {y1 - y0} px.")

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
