"""The Publish step: formats, size, place, and the acquisition summary."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QHBoxLayout, QLineEdit, QWidget

from ....core.files import FORMATS
from ....core.model.channel import LONG_NAMES
from ....core.model.errors import InputError, OutputRefused
from ....workspace.blend.publish import output_files, output_shape, summary_rows, used_sources
from ...command import Command
from ...shell.route import StepState
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.slider import ValueSlider
from ...widgets.text import clock_text
from ..step import Step, StepContext

_SIZES = (
    (None, "as it is"),
    (3840, "longest side 3840 px"),
    (2560, "longest side 2560 px"),
    (1920, "longest side 1920 px"),
    (1280, "longest side 1280 px"),
)


class PublishStep(Step):
    """Writes what the Blend step shows; what was written is said under the button."""

    id = "publish"
    title = "Publish"
    tip = "Write the picture in open formats, with its recipe and the acquisition summary."
    place = 70
    topic = "blend"

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.written: list[Path] = []
        self._written_for: object = None
        self._file_fold()
        self._place_fold()
        self._summary_fold()
        context.bridge.state.connect(self._show_state)
        context.bridge.recipe.connect(self._show)
        context.bridge.published.connect(self._published)
        self._show_state()

    def _file_fold(self) -> None:
        fold = self.file_fold = self.inspector.add(Fold("Picture"))
        self.boxes: dict[str, QCheckBox] = {}
        for fmt in FORMATS.values():
            box = QCheckBox(fmt.words)
            box.setToolTip(fmt.tip)
            box.setAccessibleName(fmt.words)
            box.clicked.connect(lambda _on: self._set_formats())
            self.boxes[fmt.id] = box
            fold.add(box)
        self.size = ChoiceBox("size", "Size of the files; never larger than the data")
        for _, words in _SIZES:
            self.size.addItem(words)
        self.size.activated.connect(
            lambda i: self.session.publishing.set_publish("size", longest=_SIZES[i][0])
        )
        fold.add(self.size)
        self.quality = ValueSlider(
            "JPEG quality", 60, 100, 92, "Higher keeps more and is larger", 1, lambda v: f"{v:.0f}"
        )
        self.quality.settled.connect(
            lambda v: self.session.publishing.set_publish("JPEG quality", quality=round(v))
        )
        fold.add(self.quality)

    def _place_fold(self) -> None:
        fold = self.inspector.add(Fold("Place"))
        place = QWidget()
        row = QHBoxLayout(place)
        row.setContentsMargins(0, 0, 0, 0)
        self.folder = QLineEdit()
        self.folder.setAccessibleName("folder")
        self.folder.setToolTip("The folder for the files")
        self.folder.editingFinished.connect(lambda: self.set_folder(self.folder.text()))
        choose = button("…", "Choose the folder")
        choose.setAccessibleName("choose the folder")
        choose.setFixedWidth(34)
        choose.clicked.connect(self._choose_folder)
        row.addWidget(self.folder, 1)
        row.addWidget(choose)
        fold.add(place)
        self.stem = QLineEdit()
        self.stem.setAccessibleName("file name")
        self.stem.setToolTip("Name of the files, without ending")
        self.stem.editingFinished.connect(lambda: self._set_stem(self.stem.text()))
        fold.add(self.stem)
        self.replace = QCheckBox("replace files that exist")
        self.replace.setToolTip("Off: a file that exists is never touched")
        fold.add(self.replace)
        self.go = button("Publish", "Write the files (Ctrl+E)", "primary")
        self.go.clicked.connect(self.publish)
        fold.add(self.go)
        self.outcome = label("", "muted", wrap=True)
        fold.add(self.outcome)

    def _summary_fold(self) -> None:
        fold = self.summary_fold = self.inspector.add(Fold("Acquisition summary"))
        self.rows = Figures()
        fold.add(self.rows)
        self.rigs = label("", "muted", wrap=True)
        fold.add(self.rigs)
        copy = button("Copy the summary", "To the clipboard, as a Markdown table (Ctrl+Shift+C)")
        copy.clicked.connect(self.copy_summary)
        fold.add(copy)

    # --- gestures ---

    def publish(self) -> None:
        """Write the files in a job."""
        state = self.session.state.publish
        if not state.formats:
            self._report(InputError("No format is chosen", do="Tick at least one of the formats"))
            return
        folder = Path(self._folder()).expanduser()
        if not folder.is_dir():
            self._report(
                OutputRefused("The folder does not exist", do="Choose another one", file=folder)
            )
            return
        self.outcome.setText("")
        self._written_for = self.session.blend.snapshot.recipe
        self.session.publishing.publish(
            output_files(folder, self._stem(), state), self.replace.isChecked()
        )

    def copy_summary(self) -> None:
        """The acquisition summary on the clipboard."""
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.session.publishing.summary())

    def _report(self, error: InputError) -> None:
        self.session.context.report([error])

    def _set_formats(self) -> None:
        chosen = tuple(i for i, box in self.boxes.items() if box.isChecked())
        self.session.publishing.set_publish("formats", formats=chosen)

    def set_folder(self, text: str) -> None:
        """Where the files go."""
        if text != self._folder():
            self.session.publishing.set_publish("folder", folder=text)

    def _set_stem(self, text: str) -> None:
        clean = "".join("-" if c in '/\\:*?"<>|' else c for c in text.strip())
        if clean and clean != self._stem():
            self.session.publishing.set_publish("file name", stem=clean)
        self.stem.setText(self._stem())

    def _choose_folder(self) -> None:
        found = QFileDialog.getExistingDirectory(
            self.context.window, "Folder for the picture", self._folder()
        )
        if found:
            self.set_folder(found)

    def _folder(self) -> str:
        pictures = Path.home() / "Pictures"
        return self.session.state.publish.folder or str(
            pictures if pictures.is_dir() else Path.home()
        )

    def _stem(self) -> str:
        return self.session.state.publish.stem or self.session.state.name

    # --- what is shown ---

    def enter(self) -> None:
        super().enter()
        self.context.canvas.set_alone(None)
        self._show()

    def _published(self, paths: list[Path]) -> None:
        self.written = paths
        size = sum(p.stat().st_size for p in paths if p.exists()) / 1e6
        names = ", ".join(p.name for p in paths)
        self.outcome.setText(f"Written: {names} ({size:.1f} MB), each with its recipe beside it.")

    def _show_state(self) -> None:
        publish = self.session.state.publish
        for format_id, box in self.boxes.items():
            box.setChecked(format_id in publish.formats)
        self.quality.set_value(publish.quality)
        self.quality.setVisible("jpeg" in publish.formats)
        sizes = [s for s, _ in _SIZES]
        self.size.setCurrentIndex(sizes.index(publish.longest) if publish.longest in sizes else 0)
        if not self.folder.hasFocus():
            self.folder.setText(self._folder())
        if not self.stem.hasFocus():
            self.stem.setText(self._stem())
        self._show()

    def _show(self) -> None:
        now = self.session.blend.snapshot
        renderer, recipe = now.renderer, now.recipe
        ready = renderer is not None and recipe is not None
        self.go.setEnabled(ready)
        if renderer is not None and ready:
            height, width = output_shape(
                renderer.shape_of(recipe), self.session.state.publish.longest
            )
            self.file_fold.set_note(f"{width} × {height} px")
        else:
            self.file_fold.set_note("")
        self._show_summary()

    def _show_summary(self) -> None:
        now = self.session.blend.snapshot
        state, channels, recipe = self.session.state, now.channels, now.recipe
        rows = summary_rows(state, channels, recipe)
        self.rows.show_rows(
            [
                (r.channel, r.lengths, clock_text(r.hours), f"{LONG_NAMES[r.channel]}, {r.origin}")
                for r in rows
            ]
        )
        sources = used_sources(state, channels, recipe)
        self.summary_fold.set_note(
            clock_text(sum(s.hours or 0 for s in sources)) if sources else ""
        )
        self.rigs.setText(
            "\n".join(dict.fromkeys(f"{s.station}: {s.camera}" for s in sources if s.camera))
        )

    def figure(self, channel: str) -> tuple[str, str]:
        prepared = self.session.channels.snapshot.channel(channel)
        return "from", prepared.label.partition(",")[0][:12]

    def status(self) -> tuple[StepState, int]:
        recipe = self.session.blend.snapshot.recipe
        if recipe is None:
            return "empty", 0
        return ("full" if self.written and self._written_for == recipe else "half"), 0

    def commands(self) -> list[Command]:
        def ready() -> bool:
            return self.session.blend.snapshot.recipe is not None

        copy, words = "Copy the acquisition summary", "file export write"
        return [
            Command(
                "publish", "Publish the picture", "Ctrl+E", self.here(self.publish), words, ready
            ),
            Command("summary", copy, "Ctrl+Shift+C", self.copy_summary, "file", ready),
        ]
