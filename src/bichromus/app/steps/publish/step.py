"""The Publish step: the picture as it will be written, and all that goes with it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QFileDialog

from ....core.files.names import safe_name
from ....core.model.errors import InputError, OutputRefused
from ....core.model.words import short
from ....workspace.project.state import VersionState
from ....workspace.publish.controller import Published
from ....workspace.publish.files import Order, files_in_words, order_of, size_of
from ....workspace.publish.preview import Sheet
from ...canvas import Canvas
from ...canvas.picture_view import PictureView
from ...command import Command
from ...shell.route import StepState
from ...widgets.plain import ask
from ..step import Step, StepContext
from .picture_fold import PictureFold
from .place_fold import PlaceFold
from .stage import PrintView
from .summary_fold import SummaryFold
from .template_dialog import TemplateDialog
from .words_fold import WordsFold


class PublishStep(Step):
    """Writes the picture, or a version; what was written is said under the button."""

    id = "publish"
    title = "Publish"
    tip = "Write the picture in open formats, with its summary and how it came about."
    place = 70
    topic = "blend"

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.written: list[Path] = []
        self._written_for: object = None
        self._sheet: Sheet | None = None
        self.stage: PrintView = PrintView()
        self.first = self.stage
        self.picture, self.words = PictureFold(), WordsFold()
        self.summary, self.where = SummaryFold(), PlaceFold()
        for fold in (self.picture, self.where, self.summary, self.words):
            self.inspector.add(fold)
        self._wire(context)

    def _wire(self, context: StepContext) -> None:
        publishing, bridge = self.session.publishing, context.bridge
        for changed in (self.picture.changed, self.words.changed, self.summary.changed):
            changed.connect(lambda label, values: publishing.set_publish(label, **values))
        self.picture.refused.connect(self._report)
        self.summary.copied.connect(self.copy_summary)
        self.summary.edited.connect(self.edit_templates)
        self.where.folder_typed.connect(self.set_folder)
        self.where.name_typed.connect(self._set_stem)
        self.where.choosing.connect(self._choose_folder)
        self.where.going.connect(self.publish)
        self.stage.wanted.connect(publishing.request_preview)
        for signal in (bridge.state, bridge.recipe, bridge.logged, bridge.versions_ready):
            signal.connect(self._show)
        bridge.laid_out.connect(self._laid_out)
        bridge.previewed.connect(self.stage.show_answer)
        bridge.published.connect(self._published)

    @property
    def canvas(self) -> Canvas | PictureView:  # type: ignore[override]
        return self.stage

    # --- gestures ---

    def publish(self) -> None:
        """Write the files in a job; files that exist are asked about first."""
        state = self.session.state
        if not state.publish.formats:
            self._report(InputError("No format is chosen", do="Tick at least one of the formats"))
            return
        folder = Path(self._folder()).expanduser()
        if not folder.is_dir():
            self._report(
                OutputRefused("The folder does not exist", do="Choose another one", file=folder)
            )
            return
        there = [p for p in self._order(folder).paths if p.exists()]
        if there and not self._may_replace(there):
            return
        self.where.tell("")
        self._written_for = self._subject()
        self.session.publishing.publish(folder, bool(there))

    def _may_replace(self, there: list[Path]) -> bool:
        many = "This file exists" if len(there) == 1 else f"{len(there)} of these files exist"
        words = f"{many}: {files_in_words(there)}. Replace?"
        return ask(self.context.window, "Publish", words)

    def copy_summary(self) -> None:
        """The acquisition summary on the clipboard, in the form that is chosen."""
        clipboard = QGuiApplication.clipboard()
        try:
            text = self.session.publishing.summary_text()
        except InputError as error:
            self._report(error)
            return
        if clipboard is not None:
            clipboard.setText(text)
            self.session.context.message("The summary is on the clipboard.")

    def edit_templates(self) -> None:
        """Write a template, and use it."""
        chosen = self.session.state.publish.summary
        dialog = TemplateDialog(self.session.publishing.summary(), self.context.window, chosen)
        dialog.exec()
        if dialog.kept:
            self.session.publishing.set_publish("form of the summary", summary=dialog.kept)
        self._show()

    def set_folder(self, text: str) -> None:
        """Where the files go."""
        if text != self._folder():
            self.session.publishing.set_publish("folder", folder=text)

    def _set_stem(self, text: str) -> None:
        clean = safe_name(text, "")
        if clean and clean != self._stem():
            self.session.publishing.set_publish("file name", stem=clean)
        self.where.stem.setText(self._stem())

    def _choose_folder(self) -> None:
        found = QFileDialog.getExistingDirectory(
            self.context.window, "Folder for the picture", self._folder()
        )
        if found:
            self.set_folder(found)

    def _report(self, error: InputError) -> None:
        self.session.context.report([error])

    # --- what is chosen ---

    def _folder(self) -> str:
        pictures = Path.home() / "Pictures"
        return self.session.state.publish.folder or str(
            pictures if pictures.is_dir() else Path.home()
        )

    def _stem(self) -> str:
        state = self.session.state
        return state.publish.stem or safe_name(state.name)

    def _order(self, folder: Path) -> Order:
        return order_of(self.session.state, folder, self._version())

    def _version(self) -> VersionState | None:
        return self.session.publishing.version

    def _subject(self) -> object:
        """What is written, as something to compare."""
        version = self._version()
        return version.recipe if version is not None else self.session.blend.snapshot.recipe

    # --- what is shown ---

    def enter(self) -> None:
        super().enter()
        self._show()

    def _published(self, made: Published) -> None:
        self.written = [w.file.path for w in made.pictures]
        size = sum(p.stat().st_size for p in self.written if p.exists()) / 1e6
        beside = f"{made.summary.name}, {made.record.name} and its JSON"
        self.where.tell(
            f"Written: {files_in_words(self.written)} ({size:.1f} MB); beside it {beside}."
        )

    def _show(self) -> None:
        if not self.active:  # while a control moves elsewhere nothing of this is looked at
            return
        state = self.session.state
        names = [v.name for v in state.versions if v.laid is None]
        self.picture.show_state(state.publish, names, self._size_words())
        self.words.show_state(state.publish)
        self.summary.show_summary(self.session.publishing.summary(), state.publish.summary)
        now = self.session.blend.snapshot
        ready = now.recipe is not None and not now.channels.rough
        count = len(self._order(Path(self._folder())).paths)
        self.where.show_place(self._folder(), self._stem(), ready, count)
        version = self._version()
        if version is not None:
            self.session.versions.prepare([version])
        self.session.publishing.lay_out()

    def _laid_out(self, sheet: Sheet | None) -> None:
        self._sheet = sheet
        self.stage.show_sheet(sheet, self._no_picture_words())
        self.picture.set_note(self._size_words())

    def _no_picture_words(self) -> str:
        version = self._version()
        if version is None and self.session.blend.snapshot.channels.rough:
            return "The picture is on its way; Blend shows a quick look of it."
        if version is None:
            return "The picture as it will be written is seen here once there is one."
        if self.session.versions.stale(version) and not self.session.versions.held(version):
            return (
                f"{version.name} can no longer be rendered in full: what it stood on is gone. "
                "In Versions it can be kept once more with the channels of today."
            )
        return f"{version.name} is made ready…"

    def _size_words(self) -> str:
        if self._sheet is None:
            return ""
        largest = max(self.session.state.publish.sizes, key=lambda s: s or 10**9)
        height, width = size_of(self._sheet.size, largest)
        return f"{width} × {height} px"

    def figure(self, channel: str) -> tuple[str, str]:
        prepared = self.session.channels.snapshot.channel(channel)
        return "from", short(prepared.label)[:12]

    def status(self) -> tuple[StepState, int]:
        if self.session.blend.snapshot.recipe is None:
            return "empty", 0
        return ("full" if self.written and self._written_for == self._subject() else "half"), 0

    def commands(self) -> list[Command]:
        def ready() -> bool:
            return self.session.blend.snapshot.recipe is not None

        copy, words = "Copy the acquisition summary", "file export write"
        return [
            Command(
                "publish", "Publish the picture", "Ctrl+E", self.here(self.publish), words, ready
            ),
            Command("summary", copy, "Ctrl+Shift+C", self.copy_summary, "file", ready),
            Command(
                "templates",
                "Templates of the summary",
                "",
                self.here(self.edit_templates),
                "summary fields",
            ),
        ]
