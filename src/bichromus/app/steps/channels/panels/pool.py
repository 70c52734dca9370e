"""Who is in the pool of a channel."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QRadioButton

from .....core.model.words import short
from .....workspace.channels import commands
from .....workspace.channels.notes import PoolNote, PoolPart
from .....workspace.channels.prepared import Prepared
from .....workspace.session import Session
from ....widgets.fold import Figures
from ....widgets.plain import set_tip
from ....widgets.text import snr_text
from .base import Panel


class PoolPanel(Panel):
    """Who is in the pool with which weight and why, and what would be lost without."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.parts = Figures()
        self.column.addWidget(self.parts)
        self.boxes: dict[str, QCheckBox] = {}
        self.radios: dict[str, QRadioButton] = {}

    def refresh(self, prepared: Prepared) -> None:
        name = prepared.channel
        pool = self.channels.pool(name)
        note = pool.notes.pool if pool is not None else None
        rows = [_part_row(part) for part in note.parts] if note else []
        if pool is not None and note is not None:
            best = max((p.measure.snr or 0 for p in self.channels.alone(name)), default=0.0)
            rows.append(("best alone", "SNR", snr_text(best), "The best origin by itself"))
            words = (
                f"Pooled; its noise is {note.gain:.2f} times smaller than that of the best alone"
            )
            rows.append(("together", "SNR", snr_text(pool.measure.snr), words))
        self.parts.show_rows(rows)
        self._show_boxes(note)
        self._show_radios(name)

    def _show_boxes(self, note: PoolNote | None) -> None:
        """A box for each origin of a pool of three and more: in it or not."""
        self._drop(self.boxes)
        self.boxes = {}
        parts = note.parts if note is not None else ()
        for part in parts if len(parts) > 2 else ():
            sign = "+" if part.left_out else "−"
            words = f"{'with' if part.left_out else 'without'} it {sign}{100 * part.loss:.1f} % SNR"
            box = QCheckBox(f"{short(part.label)}: {words}")
            box.setAccessibleName(f"pool with {part.label}")
            set_tip(box, f"{weight_words(part)}\nClear it to pool without this one.")
            box.setChecked(not part.left_out)
            box.clicked.connect(
                lambda on, p=part: self.do(commands.leave_out(p.origin, p.label, not on))
            )
            self.boxes[part.origin] = box
            self.column.addWidget(box)

    def _show_radios(self, name: str) -> None:
        """One origin alone, when the pool is off."""
        self._drop(self.radios)
        self.radios = {}
        channels = self.channels
        if channels.uses_pool(name):
            return
        for option in channels.alone(name):
            if option.shape != channels.grid:
                continue
            radio = QRadioButton(f"use {option.label}, SNR {snr_text(option.measure.snr)}")
            radio.setAccessibleName(f"use {name} of {option.label}")
            set_tip(radio, f"The blend takes {name} from {option.label}.")
            radio.setChecked(channels.chosen.get(name) == option.id)
            radio.clicked.connect(lambda _on, p=option: self.do(commands.choose_origin(p)))
            self.radios[option.id] = radio
            self.column.addWidget(radio)

    def _drop(self, widgets: dict[str, QCheckBox] | dict[str, QRadioButton]) -> None:
        for widget in widgets.values():
            self.column.removeWidget(widget)
            widget.hide()
            widget.deleteLater()


def _part_row(part: PoolPart) -> tuple[str, str, str, str]:
    weight = "left out" if part.left_out else f"{100 * part.weight:.1f} %"
    return part.label, f"flux {part.flux:.2f}", weight, weight_words(part)


def weight_words(part: PoolPart) -> str:
    """Why an origin has its weight."""
    words = (
        f"Weight by (flux / noise)²: flux {part.flux:.3f} of the reference's, told by its "
        f"{part.flux_from};\n"
        f"noise {part.sigma:.3g} at that flux"
    )
    words += f"; stars {part.fwhm_px:.1f} px wide" if part.fwhm_px else ""
    return (
        f"{words}.\n{100 * part.rejected:.3f} % of its pixels are left out as no other shows them."
    )
