"""What is written of the picture: which one, formats, sizes, shape, colours, words under it."""

from __future__ import annotations

from typing import Final

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QLineEdit, QWidget

from ....core.files import FORMATS
from ....core.model.errors import InputError
from ....core.numerics.spaces import SPACES
from ....core.publish.shapes import FULL, SQUARE, ratio_of
from ....workspace.project.state import PublishState
from ....workspace.publish.files import AS_IT_IS
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Fold, button, label
from ...widgets.plain import set_tip
from ...widgets.slider import ValueSlider

_USUAL_SIZES: Final = (AS_IT_IS, 3840, 2560, 1920, 1280)
_SHAPES: Final = {
    FULL: "the whole picture",
    SQUARE: "square",
    "3:2": "3:2",
    "4:3": "4:3",
    "16:9": "16:9",
    "21:9": "21:9",
    "4:5": "4:5, upright",
    "2:3": "2:3, upright",
    "9:16": "9:16, upright",
}
_NOW: Final = "the picture as it is"


class PictureFold(Fold):
    """``changed`` carries what the person has changed: its label and the values."""

    changed = pyqtSignal(str, dict)
    refused = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__("Picture")
        self.which = ChoiceBox("picture", "The picture as it is, or one of its versions")
        self.which.activated.connect(self._choose_version)
        self.add(self.which)
        self._formats()
        self._sizes()
        self._shape()
        self.quality = ValueSlider(
            "JPEG quality", 60, 100, 92, "Higher keeps more and is larger", 1, lambda v: f"{v:.0f}"
        )
        self.quality.settled.connect(
            lambda v: self.changed.emit("JPEG quality", {"quality": round(v)})
        )
        self.add(self.quality)

    def _formats(self) -> None:
        self.boxes: dict[str, QCheckBox] = {}
        room = QWidget()
        grid = QGridLayout(room)
        grid.setContentsMargins(0, 4, 0, 0)
        grid.setVerticalSpacing(2)
        for number, fmt in enumerate(FORMATS.values()):
            box = QCheckBox(fmt.words.replace("32-bit float", "float").replace(", to share", ""))
            set_tip(box, f"{fmt.words}: {fmt.tip}")
            box.setAccessibleName(fmt.words)
            box.clicked.connect(self._set_formats)
            self.boxes[fmt.id] = box
            grid.addWidget(box, number // 2, number % 2)
        self.add(room)

    def _sizes(self) -> None:
        self.body.addSpacing(5)
        self.add(label("longer side, px", "muted"))
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(3)
        self.sizes: dict[int, QWidget] = {}
        for size in _USUAL_SIZES:
            words = "all" if size == AS_IT_IS else f"{size}"
            tip = "As many pixels as the data have" if size == AS_IT_IS else f"{size} pixels"
            made = button(words, f"{tip}; several sizes are written at once", "chip")
            made.setCheckable(True)
            made.setAccessibleName("full size" if size == AS_IT_IS else f"{size} pixels")
            made.clicked.connect(self._set_sizes)
            self.sizes[size] = made
            line.addWidget(made)
        self.add(row)
        self.typed = QLineEdit()
        self.typed.setAccessibleName("other sizes")
        self.typed.setPlaceholderText("other sizes, as in 5000, 800")
        set_tip(self.typed, "Other longer sides in pixels, with commas")
        self.typed.editingFinished.connect(self._set_sizes)
        self.add(self.typed)

    def _shape(self) -> None:
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 6, 0, 0)
        line.setSpacing(6)
        self.shape_box = ChoiceBox(
            "shape", "The whole picture, or as much of it as fits a shape around the subject"
        )
        for key, words in _SHAPES.items():
            self.shape_box.addItem(words, key)
        self.shape_box.activated.connect(
            lambda _: self.changed.emit("shape", {"shape": self.shape_box.currentData()})
        )
        self.space = ChoiceBox("colours", "The space of the colours in the files")
        for space in SPACES.values():
            self.space.addItem(space.title, space.id)
            self.space.setItemData(self.space.count() - 1, space.tip, 3)
        self.space.activated.connect(
            lambda _: self.changed.emit("colour space", {"space": self.space.currentData()})
        )
        line.addWidget(self.shape_box, 3)
        line.addWidget(self.space, 2)
        self.add(row)
        self.caption = QCheckBox("words under the picture")
        set_tip(
            self.caption,
            "A strip with the target, hours by channel, stations and dates, under all but FITS",
        )
        self.caption.clicked.connect(
            lambda on: self.changed.emit("words under the picture", {"caption": bool(on)})
        )
        self.add(self.caption)

    # --- gestures ---

    def _choose_version(self, index: int) -> None:
        name = str(self.which.itemData(index) or "")
        self.changed.emit("picture to publish", {"version": name})

    def _set_formats(self) -> None:
        chosen = tuple(i for i, box in self.boxes.items() if box.isChecked())
        self.changed.emit("formats", {"formats": chosen})

    def _set_sizes(self) -> None:
        chosen = [s for s, made in self.sizes.items() if made.isChecked()]  # type: ignore[attr-defined]
        for part in self.typed.text().replace(";", ",").split(","):
            text = part.strip()
            if text and not (text.isdecimal() and 16 <= int(text) <= 100_000):
                self.refused.emit(
                    InputError(
                        f"The size {text!r} is not clear",
                        do="Give pixels from 16 to 100000, with commas",
                    )
                )
                return
            chosen += [int(text)] if text else []
        self.changed.emit("sizes", {"sizes": tuple(dict.fromkeys(chosen)) or (AS_IT_IS,)})

    # --- what is shown ---

    def show_state(self, state: PublishState, versions: list[str], note: str) -> None:
        """Show what is chosen; ``versions`` that may be published, by name."""
        names = ["", *versions]
        self.which.clear()
        for name in names:
            self.which.addItem(name or _NOW, name)
        self.which.setCurrentIndex(names.index(state.version) if state.version in names else 0)
        self.which.setVisible(bool(versions))
        for format_id, box in self.boxes.items():
            box.setChecked(format_id in state.formats)
        for size, made in self.sizes.items():
            made.setChecked(size in state.sizes)  # type: ignore[attr-defined]
        if not self.typed.hasFocus():
            others = [str(s) for s in state.sizes if s not in self.sizes]
            self.typed.setText(", ".join(others))
        if self.shape_box.findData(state.shape) < 0:
            ratio_of(state.shape)
            self.shape_box.addItem(state.shape, state.shape)
        self.shape_box.setCurrentIndex(self.shape_box.findData(state.shape))
        self.space.setCurrentIndex(self.space.findData(state.space))
        self.caption.setChecked(state.caption)
        self.quality.set_value(state.quality)
        self.quality.setVisible("jpeg" in state.formats)
        self.set_note(note)
