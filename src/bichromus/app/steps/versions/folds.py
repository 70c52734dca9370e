"""The inspector of the Versions step: the version under the frame, and two beside each other."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from ....workspace.project.state import VersionState
from ....workspace.versions.compare import Comparison, laid_words
from ....workspace.versions.files import LONGEST_PX
from ....workspace.versions.variation import Part
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, button, label, set_role
from ...widgets.plain import set_tip
from ...widgets.text import clock_text
from ...widgets.textbox import TextBox
from .pair import WAYS
from .words import ORDERS, when_text

_NOTE_PX = 54


class VersionFold(Fold):
    """Name, note and figures of a version, and what can be done with it."""

    renamed = pyqtSignal(str)
    noted = pyqtSignal(str)
    continued = pyqtSignal()
    made_anew = pyqtSignal()
    favourite = pyqtSignal()
    removed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__("Version")
        self.name = QLineEdit()
        self.name.setAccessibleName("name of the version")
        set_tip(self.name, "Its name on the wall")
        self.name.editingFinished.connect(lambda: self.renamed.emit(self.name.text()))
        self.add(self.name)
        tip = "What you want to remember of it"
        self.note_box = TextBox("note on the version", "A note", tip, _NOTE_PX)
        self.note_box.written.connect(self.noted)
        self.add(self.note_box)
        self.rows = Figures()
        self.add(self.rows)
        self.stale = label("", "muted", wrap=True)
        self.add(self.stale)
        self.go_on = button("Continue with it", "Make its recipe the current one; Ctrl+Z goes back")
        self.go_on.clicked.connect(self.continued)
        self.anew = button(
            "Keep it with the channels of today", "The same recipe once more, on what is there now"
        )
        self.anew.clicked.connect(self.made_anew)
        for part in (self.go_on, self.anew):
            self.add(part)
        pair = QWidget()
        row = QHBoxLayout(pair)
        row.setContentsMargins(0, 0, 0, 0)
        self.star = button("Favourite", "Mark it, or no longer (*)")
        self.star.setCheckable(True)
        self.star.clicked.connect(self.favourite)
        self.remove = button("Take off the wall", "Ctrl+Z hangs it up again (Delete)")
        self.remove.clicked.connect(self.removed)
        for part in (self.star, self.remove):
            row.addWidget(part)
        self.add(pair)

    def show_version(self, version: VersionState, changed: list[str], held: bool) -> None:
        """Show one; ``changed`` are its channels that are others by now, ``held``: those that it
        stands on are still there.
        """
        if not self.name.hasFocus():
            self.name.setText(version.name)
        self.note_box.show_text(version.note)
        hours = clock_text(version.hours) if version.hours else "not known"
        tip = "Hours of all its channels; the cards of the channels tell their SNR then"
        rows = [("kept", "", when_text(version.made), "")]
        if version.laid is None:
            rows.append(("data", "", hours, tip))
        self.rows.show_rows(rows)
        self.stale.setVisible(bool(changed) or version.laid is not None)
        self.stale.setText(_state_words(version, changed, held))
        self.anew.setVisible(bool(changed))
        self.go_on.setVisible(version.laid is None)
        self.star.setChecked(version.favourite)
        self.set_note(f"{version.size[0]} × {version.size[1]} px")


def _state_words(version: VersionState, changed: list[str], held: bool) -> str:
    if version.laid is not None:
        stretched = (
            " It came linear and was stretched to be looked at." if version.laid.stretched else ""
        )
        return f"{version.laid.file}, {laid_words(version.laid)}.{stretched}"
    names = ", ".join(changed)
    if held:
        return f"{names} changed since: it is shown with the channels it was kept with."
    return (
        f"{names} changed since, and what it stood on is gone: it is shown as it was kept, "
        f"{min(max(version.size), LONGEST_PX)} px wide at most."
    )


class WallFold(Fold):
    """The picture now, the order of the wall, what comes from elsewhere, and what is left out.
    ``ordered`` carries an order, ``left_out`` the part that a picture shall do without.
    """

    kept = pyqtSignal()
    brought = pyqtSignal()
    ordered = pyqtSignal(str)
    left_out = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__("The wall")
        self.keep = button("Keep the picture now", "Hang it on the wall (Ctrl+D)", "primary")
        self.keep.clicked.connect(self.kept)
        self.add(self.keep)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 4, 0, 0)
        line.setSpacing(6)
        self.order = ChoiceBox("order of the wall", "How the versions hang")
        for key, words in ORDERS.items():
            self.order.addItem(words, key)
        self.order.activated.connect(lambda _: self.ordered.emit(self.order.currentData()))
        self.bring = button(
            "Bring in…", "A picture from elsewhere, or a recipe: dropped files hang here as well"
        )
        self.bring.clicked.connect(self.brought)
        line.addWidget(self.order, 1)
        line.addWidget(self.bring)
        self.add(row)
        self.parts = ChoiceBox(
            "keep it without",
            "The same picture with and without a contributor or a stack: both are kept, and looked "
            "at beside each other",
        )
        self.parts.activated.connect(self._leave_out)
        self.add(self.parts)

    def _leave_out(self, index: int) -> None:
        name = self.parts.itemData(index)
        self.parts.setCurrentIndex(0)
        if name:
            self.left_out.emit(name)

    def show_wall(self, ready: bool, order: str, parts: list[Part], kept_bytes: int) -> None:
        """Show what can be done. ``kept_bytes``: of channels that only versions need."""
        self.keep.setEnabled(ready)
        self.order.setCurrentIndex(max(self.order.findData(order), 0))
        self.parts.setVisible(ready and bool(parts))
        self.parts.clear()
        self.parts.addItem("with and without…", "")
        for part in parts:
            self.parts.addItem(f"{part.name} ({', '.join(part.channels)})", part.name)
        mega = kept_bytes / 1e6
        size = f"{mega / 1000:.1f} GB" if mega >= 1000 else f"{mega:.0f} MB"
        self.set_note(f"{size} kept for it" if kept_bytes else "")
        set_tip(self.note, "Channels of earlier days, kept while a version stands on them")


class PairFold(Fold):
    """How two are compared, what differs in words, and their figures."""

    way_chosen = pyqtSignal(str)
    opened = pyqtSignal()
    closed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__("Two versions")
        self.hint = label("", "muted", wrap=True)
        self.add(self.hint)
        self.way = ChoiceBox("way to compare", "How the two are compared (Shift+Q: the next)")
        for title, tip in WAYS.values():
            self.way.addItem(title)
            self.way.setItemData(self.way.count() - 1, tip, 3)
        self.way.activated.connect(lambda i: self.way_chosen.emit(list(WAYS)[i]))
        self.add(self.way)
        self.words = label("", wrap=True)
        self.add(self.words)
        self.rows = Figures()
        self.add(self.rows)
        self.open = button("Compare", "The picks, large (Return)", "primary")
        self.open.clicked.connect(self.opened)
        self.back = button("Back to the wall", "All versions (Backspace)")
        self.back.clicked.connect(self.closed)
        for part in (self.open, self.back):
            self.add(part)

    def show_picks(self, picks: list[str], found: Comparison | None, large: bool) -> None:
        """Show what differs between the picks; ``large``: they are on the stage."""
        hints = ("Pick two with a click or Space.", f"1 is {', '.join(picks)}. Pick another.")
        self.hint.setVisible(len(picks) < 2)
        self.hint.setText(hints[min(len(picks), 1)])
        self.words.setVisible(found is not None)
        self.rows.setVisible(found is not None)
        if found is not None:
            lines = [f"• {w}" for w in found.words]
            self.words.setText(
                "\n".join(["From 1 to 2:", *lines] if lines else ["Nothing differs."])
            )
            self.rows.show_rows(
                [("", "1", "2", ""), *((r.what, r.one, r.two, "") for r in found.rows)]
            )
            for _, first, _ in self.rows.rows:
                set_role(first, "figure")  # both count alike
        self.open.setVisible(not large and bool(picks))
        self.open.setText("Compare" if len(picks) > 1 else "Look at it")
        self.back.setVisible(large)
        self.way.setVisible(large and len(picks) > 1)
