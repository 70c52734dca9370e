"""Masks: parts of the picture in words, where each lies and what is done to it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Final

from PyQt6.QtWidgets import QCheckBox, QListWidget, QWidget

from ....core.blend.mask_words import hue_name, mask_words
from ....core.model.mask import Mask, Range, Stroke
from ...widgets.choice import ChoiceBox
from ...widgets.fold import button
from ...widgets.plain import set_tip
from ...widgets.slider import ValueSlider
from ..step import StepContext
from .rows import row_of
from .section import Section

_HUE: Final = (250.0, 40.0, 20.0)
_LIGHT: Final = Range(low=0.5, soft=0.12)
_LEVEL: Final = Range(low=6.0, soft=3.0)
_ROW_PX, _MOST_ROWS = 26, 4
_MOST_LEVEL: Final = 100.0


@dataclass(frozen=True)
class Knob:
    """One slider of a mask: what it is called, where it runs, how it is read and written; ``part``
    is the condition that it belongs to (empty: always there).
    """

    name: str
    low: float
    high: float
    default: float
    tip: str
    read: Callable[[Mask], float]
    write: Callable[[Mask, float], dict[str, Any]]
    part: str = ""
    step: float = 0.01
    text: Callable[[float], str] | None = None


def _range(mask: Mask, part: str, **changes: Any) -> dict[str, Any]:
    found = getattr(mask, part) or Range()
    new = {**found.model_dump(), **changes}
    if new["high"] is not None and new["high"] < new["low"]:
        new["high"] = new["low"]
    return {part: Range.model_validate(new)}


def _hue(mask: Mask, index: int, value: float) -> dict[str, Any]:
    parts = list(mask.hue or _HUE)
    parts[index] = value
    return {"hue": tuple(parts)}


KNOBS: Final = (
    Knob(
        "hue",
        0.0,
        360.0,
        250.0,
        "The middle of the colours that it takes.",
        lambda m: (m.hue or _HUE)[0],
        lambda m, v: _hue(m, 0, v),
        "hue",
        1.0,
        lambda v: hue_name(v),
    ),
    Knob(
        "width",
        5.0,
        120.0,
        40.0,
        "How far to each side of it, in degrees of hue.",
        lambda m: (m.hue or _HUE)[1],
        lambda m, v: _hue(m, 1, v),
        "hue",
        1.0,
        lambda v: f"{v:.0f}°",
    ),
    Knob(
        "from light",
        0.0,
        1.0,
        0.5,
        "The darkest part that it takes.",
        lambda m: (m.light or _LIGHT).low,
        lambda m, v: _range(m, "light", low=v),
        "light",
    ),
    Knob(
        "to light",
        0.0,
        1.0,
        1.0,
        "The brightest part that it takes.",
        lambda m: (m.light or _LIGHT).high or 1.0,
        lambda m, v: _range(m, "light", high=None if v >= 1 else v),
        "light",
    ),
    Knob(
        "from level",
        0.0,
        _MOST_LEVEL,
        6.0,
        "How many sigma above its sky the channel has at least.",
        lambda m: (m.level or _LEVEL).low,
        lambda m, v: _range(m, "level", low=v),
        "level",
        0.5,
        lambda v: f"{v:.1f} σ",
    ),
    Knob(
        "soft edge",
        0.0,
        200.0,
        8.0,
        "Width of the edge of what was drawn, in pixels.",
        lambda m: m.feather,
        lambda _m, v: {"feather": v},
        "area",
        1.0,
        lambda v: f"{v:.0f} px",
    ),
    Knob(
        "lightness",
        -1.0,
        1.0,
        0.0,
        "Brighter or darker, about the sky's lightness.",
        lambda m: m.lightness,
        lambda _m, v: {"lightness": v},
    ),
    Knob(
        "colour",
        -1.0,
        2.0,
        0.0,
        "More or less saturation.",
        lambda m: m.chroma,
        lambda _m, v: {"chroma": v},
    ),
    Knob(
        "turn hue",
        -40.0,
        40.0,
        0.0,
        "Toward other colours, in degrees of hue.",
        lambda m: m.turn,
        lambda _m, v: {"turn": v},
        "",
        1.0,
        lambda v: f"{v:+.0f}°",
    ),
    Knob(
        "contrast",
        -1.0,
        2.0,
        0.0,
        "Detail of the size below made stronger, or softer.",
        lambda m: m.contrast,
        lambda _m, v: {"contrast": v},
    ),
    Knob(
        "its size",
        2.0,
        60.0,
        8.0,
        "The size of the detail, in pixels.",
        lambda m: m.contrast_px,
        lambda _m, v: {"contrast_px": v},
        "contrast",
        1.0,
        lambda v: f"{v:.0f} px",
    ),
    Knob(
        "its gain",
        0.0,
        4.0,
        1.0,
        "How much louder that channel enters the mix here.",
        lambda m: m.gain,
        lambda _m, v: {"gain": v},
        "gain",
    ),
)


class MasksSection(Section):
    """A list of masks in words; below it the one that is chosen."""

    title = "Masks"

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.list = QListWidget()
        self.list.setAccessibleName("masks")
        set_tip(self.list, "The parts of the picture that something is done to")
        self.list.currentRowChanged.connect(lambda _row: self._show_chosen())
        self.new = [
            self._new("colour", "By colour: a range of hues", {"hue": _HUE}),
            self._new("light", "By light: bright or dark parts", {"light": _LIGHT}),
            self._new("channel", "Where a channel has light", {}),
            self._new("drawn", "An area drawn over the picture", {}),
        ]
        self.remove = button("take away", "Take the chosen mask away", "quiet")
        self.remove.clicked.connect(self.remove_chosen)
        self.seen = QCheckBox("show what it takes")
        self.seen.setAccessibleName("show the mask")
        set_tip(self.seen, "Dims all that the mask does not take")
        self.seen.clicked.connect(lambda _on: self._show_overlay())
        self.invert = QCheckBox("all but this")
        self.invert.setAccessibleName("invert the mask")
        set_tip(self.invert, "Takes the rest of the picture")
        self.invert.clicked.connect(lambda on: self.change("invert the mask", invert=on))
        self.channel = ChoiceBox("channel of the mask", "The channel whose light tells the part")
        self.channel.activated.connect(self._choose_channel)
        self.gain_of = ChoiceBox("channel raised here", "The channel that is raised in this part")
        self.gain_of.activated.connect(self._choose_gain)
        self.draw_add = button("draw", "Draw parts into the area; again to stop (Shift+D)")
        self.draw_take = button("rub out", "Take parts out of the area; again to stop (Shift+E)")
        self.draw_add.setCheckable(True)
        self.draw_take.setCheckable(True)
        self.draw_add.clicked.connect(lambda on: self.set_drawing(on, True))
        self.draw_take.clicked.connect(lambda on: self.set_drawing(on, False))
        self.sliders = {k.name: self._slider(k) for k in KNOBS}
        self._strokes: list[Stroke] = []
        self.add_all(
            row_of(*self.new),
            self.list,
            row_of(self.seen, self.invert),
            self.channel,
            row_of(self.draw_add, self.draw_take, self.remove),
            *(self.sliders[k.name] for k in KNOBS[:-1]),
            self.gain_of,
            self.sliders["its gain"],
        )
        context.canvas.drawn.connect(self._draw)

    def _new(self, words: str, tip: str, where: dict[str, Any]) -> QWidget:
        made = button(words, tip)
        made.clicked.connect(lambda: self.add_mask(words, where))
        return made

    def _slider(self, knob: Knob) -> ValueSlider:
        made = ValueSlider(
            knob.name, knob.low, knob.high, knob.default, knob.tip, knob.step, knob.text
        )
        blend = self.session.blend

        def changed(value: float) -> Callable[[tuple[Mask, ...]], Sequence[Mask]]:
            index = self.list.currentRow()
            return lambda masks: _with(masks, index, lambda m: knob.write(m, value))

        made.moved.connect(lambda v: blend.show_masks(changed(v)))
        made.settled.connect(lambda v: blend.change_masks(f"{knob.name} of a mask", changed(v)))
        return made

    # --- gestures ---

    @property
    def masks(self) -> tuple[Mask, ...]:
        """The masks as they are shown now."""
        return self.session.state.blend.masks

    @property
    def chosen(self) -> Mask | None:
        """The mask that is chosen."""
        index = self.list.currentRow()
        return self.masks[index] if 0 <= index < len(self.masks) else None

    def add_mask(self, kind: str, where: dict[str, Any]) -> None:
        """A new mask at the end of the list, chosen and shown."""
        names = self.snapshot.channels.names
        if kind == "channel" and names:
            where = {"channel": names[0], "level": _LEVEL}
        mask = Mask.model_validate(where)
        self.session.blend.change_masks("new mask", lambda masks: (*masks, mask))
        self.show_state()
        self.list.setCurrentRow(len(self.masks) - 1)
        self.seen.setChecked(True)
        self._show_overlay()
        if kind == "drawn":
            self.set_drawing(True, True)

    def remove_chosen(self) -> None:
        """Take the chosen mask away."""
        index = self.list.currentRow()
        if 0 <= index < len(self.masks):
            self.stop()
            self.session.blend.change_masks(
                "take a mask away", lambda masks: (*masks[:index], *masks[index + 1 :])
            )

    def change(self, label_: str, **changes: Any) -> None:
        """Change the chosen mask: one gesture."""
        index = self.list.currentRow()
        self.session.blend.change_masks(
            label_, lambda masks: _with(masks, index, lambda _m: changes)
        )

    def _choose_channel(self, index: int) -> None:
        self.change("channel of a mask", channel=self.snapshot.channels.names[index])

    def _choose_gain(self, index: int) -> None:
        names = ["", *self.snapshot.channels.names]
        self.change("channel raised by a mask", gain_of=names[index])

    # --- drawing ---

    def set_drawing(self, on: bool, add: bool) -> None:
        """Let the pointer draw into the area of the chosen mask, or out of it."""
        on = on and self.chosen is not None
        self.draw_add.setChecked(on and add)
        self.draw_take.setChecked(on and not add)
        self.context.canvas.set_drawing(on)

    def _draw(self, x: float, y: float, radius: float, done: bool) -> None:
        drawing = self.draw_add.isChecked() or self.draw_take.isChecked()
        renderer, recipe = self.snapshot.renderer, self.snapshot.recipe
        if not drawing or renderer is None or recipe is None:
            return
        place = renderer.blender.placement(recipe)
        at = place.to_grid(x, y) if place is not None else (x, y)
        add = self.draw_add.isChecked()
        self._strokes.append(
            Stroke(x=round(at[0], 1), y=round(at[1], 1), radius=max(radius, 0.5), add=add)
        )
        index, drawn = self.list.currentRow(), tuple(self._strokes)

        def change(masks: tuple[Mask, ...]) -> Sequence[Mask]:
            return _with(masks, index, lambda m: {"area": (*m.area, *drawn)})

        if done:
            self._strokes.clear()
            self.session.blend.change_masks("draw into a mask" if add else "rub a mask out", change)
        else:
            self.session.blend.show_masks(change)

    def stop(self) -> None:
        """Draw and show nothing any more."""
        self.set_drawing(False, True)
        self.seen.setChecked(False)
        self._show_overlay()

    # --- what is shown ---

    def _show_overlay(self) -> None:
        on = self.seen.isChecked() and self.chosen is not None
        self.context.canvas.set_mask(self.list.currentRow() if on else -1)

    def state_line(self) -> str:
        count = len(self.masks)
        if not count:
            return "none"
        return mask_words(self.masks[0]) if count == 1 else f"{count} masks"

    def show_state(self) -> None:
        super().show_state()
        words = [mask_words(m) for m in self.masks]
        row = self.list.currentRow()
        if words != [i.text() for n in range(self.list.count()) if (i := self.list.item(n))]:
            self.list.blockSignals(True)
            self.list.clear()
            self.list.addItems(words)
            self.list.setCurrentRow(min(max(row, 0), len(words) - 1))
            self.list.blockSignals(False)
            self.list.setFixedHeight(min(len(words), _MOST_ROWS) * _ROW_PX + 6)
        self._show_chosen()

    def _show_chosen(self) -> None:
        mask = self.chosen
        self.list.setVisible(bool(self.masks))
        for widget in (self.seen, self.invert, self.remove, self.draw_add, self.draw_take):
            widget.setVisible(mask is not None)
        names = self.snapshot.channels.names
        _fill(self.channel, [f"light of {n}" for n in names])
        _fill(self.gain_of, ["no channel raised", *(f"raise {n}" for n in names)])
        self.channel.setVisible(mask is not None and mask.level is not None)
        self.gain_of.setVisible(mask is not None)
        if mask is not None:
            self.invert.setChecked(mask.invert)
            if mask.channel in names:
                self.channel.setCurrentIndex(names.index(mask.channel))
            self.gain_of.setCurrentIndex(
                names.index(mask.gain_of) + 1 if mask.gain_of in names else 0
            )
        for knob in KNOBS:
            slider = self.sliders[knob.name]
            slider.setVisible(mask is not None and _belongs(knob, mask))
            if mask is not None:
                slider.set_value(knob.read(mask))
        if self.seen.isChecked():
            self._show_overlay()


def _belongs(knob: Knob, mask: Mask) -> bool:
    if knob.part == "gain":
        return bool(mask.gain_of)
    return not knob.part or bool(getattr(mask, knob.part))


def _with(
    masks: tuple[Mask, ...], index: int, changes: Callable[[Mask], dict[str, Any]]
) -> Sequence[Mask]:
    """Masks with one of them changed, checked anew; as they are where it is gone."""
    if not 0 <= index < len(masks):
        return masks
    mask = masks[index]
    new = Mask.model_validate({**dict(mask), **changes(mask)})
    return (*masks[:index], new, *masks[index + 1 :])


def _fill(box: ChoiceBox, words: list[str]) -> None:
    if [box.itemText(n) for n in range(box.count())] != words:
        box.clear()
        box.addItems(words)
