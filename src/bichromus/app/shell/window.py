"""The window: route above, ledger and inspector beside the stage, advice at the foot."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import QByteArray, QEvent, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QResizeEvent
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QPlainTextEdit,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ...core.model.errors import BichromusError
from ...core.model.recipe import Recipe
from ...workspace.log.export import channel_order
from ...workspace.project.folders import Settings
from ...workspace.session import Session
from ...workspace.subs.quick_stack import Preliminary
from ..bridge import Bridge
from ..canvas import Canvas
from ..steps.blend import BlendStep
from ..steps.channels import ChannelsStep
from ..steps.log import LogStep
from ..steps.plan import PlanStep
from ..steps.publish import PublishStep
from ..steps.step import Desk, Step
from ..steps.subs import SubsStep
from ..theme.look import LOOK, THEMES
from ..widgets.later import Later, Pause
from ..widgets.text import clock_text, snr_text, value_text
from .commands import MORE_KEYS, make_commands
from .foot import Foot
from .head import Head
from .ledger import Card, Ledger
from .route import Station
from .sheets import Finder, KeySheet, TroubleSheet, WhySheet
from .welcome import Welcome

HOLD_KEYS = {
    Qt.Key.Key_H: "Ha",
    Qt.Key.Key_O: "O3",
    Qt.Key.Key_S: "S2",
    Qt.Key.Key_L: "L",
    Qt.Key.Key_R: "R",
    Qt.Key.Key_G: "G",
    Qt.Key.Key_B: "B",
}
_FILES = "Stacks (*.fits *.fit *.fts *.fits.gz *.fits.fz *.tif *.tiff *.png);;All files (*)"


class Window(QMainWindow):
    """One window on one project. ``project_wanted`` asks for another: a folder, or one of new,
    demo.
    """

    project_wanted = pyqtSignal(object)
    closed = pyqtSignal(object)

    def __init__(self, session: Session, settings: Settings) -> None:
        super().__init__()
        # its parts must end in this thread, whatever thread collects the garbage later
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.session, self.settings = session, settings
        self.bridge = Bridge(session, self)
        self.canvas = Canvas()
        self.selected: str | None = None
        self._held: str | None = None
        self._topics: dict[str, object] = {}
        desk = Desk(session, self.bridge, self.canvas, self, settings)
        self.steps: list[Step] = [
            PlanStep(desk),
            LogStep(desk),
            SubsStep(desk),
            ChannelsStep(desk),
            BlendStep(desk),
            PublishStep(desk),
        ]
        self.step = self.step_named("channels")
        self._thumbs = Pause(self, lambda: session.ask_thumbnails(240), 120)
        self._frame = Later(self, self._show_frame)
        self._build()
        self._wire()
        self.commands = make_commands(self)
        self.finder = Finder(self, self.commands)
        self.key_sheet = KeySheet(self, self.commands, MORE_KEYS)
        self.setAcceptDrops(True)
        self.setMinimumSize(1100, 700)
        self.resize(1280, 800)
        geometry = settings.get("geometry")
        if isinstance(geometry, str):
            self.restoreGeometry(QByteArray.fromBase64(geometry.encode()))
        app = QApplication.instance()
        assert app is not None
        app.installEventFilter(self)
        self.go("channels")

    # --- building ---

    def _build(self) -> None:
        self.head = Head(self)
        self.ledger = Ledger()
        self.foot = Foot()
        self.welcome = Welcome()
        self.stage = QStackedWidget()
        self.stage.addWidget(self.welcome)
        self.stage.addWidget(self.canvas)
        self.shelves, self.inspectors = QStackedWidget(), QStackedWidget()
        self.inspectors.setFixedWidth(312)
        for step in self.steps:
            if step.stage is not None:
                self.stage.addWidget(step.stage)
            self.shelves.addWidget(step.shelf or QWidget())
            self.inspectors.addWidget(step.inspector)
        self.shelf_frame = QFrame()
        shelf_row = QVBoxLayout(self.shelf_frame)
        shelf_row.setContentsMargins(10, 8, 10, 2)
        shelf_row.addWidget(self.shelves)
        middle = QVBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.stage, 1)
        middle.addWidget(self.shelf_frame)
        cards = QScrollArea()
        cards.setFrameShape(QFrame.Shape.NoFrame)
        cards.setWidget(self.ledger)
        cards.setWidgetResizable(True)
        cards.setFixedWidth(172)
        cards.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        cards.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        body = QHBoxLayout()
        body.setSpacing(1)
        body.addWidget(cards)
        body.addLayout(middle, 1)
        body.addWidget(self.inspectors)
        ground = QWidget()
        ground.setObjectName("ground")
        whole = QVBoxLayout(ground)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(1)
        whole.addWidget(self.head)
        whole.addLayout(body, 1)
        whole.addWidget(self.foot)
        self.setCentralWidget(ground)
        self.why_sheet, self.trouble_sheet = WhySheet(self), TroubleSheet(self)

    def _wire(self) -> None:
        bridge, canvas = self.bridge, self.canvas
        canvas.wanted.connect(self.session.ask_view)
        canvas.pointed.connect(self._probe)
        canvas.left.connect(lambda: self.foot.show_probe(""))
        bridge.rendered.connect(canvas.show_answer)
        bridge.channels.connect(lambda _channels: self._show_channels())
        bridge.recipe.connect(self._show_recipe)
        bridge.state.connect(lambda _state: self._frame.ask())
        bridge.judged.connect(self._frame.ask)
        bridge.planned.connect(self._frame.ask)
        bridge.logged.connect(self._frame.ask)
        bridge.reviewed.connect(self._frame.ask)
        bridge.told.connect(self.foot.tell)
        bridge.stacked.connect(self._show_stacked)
        bridge.advice.connect(self._take_advice)
        bridge.trouble.connect(self.show_trouble)
        bridge.job.connect(self.foot.show_job)
        bridge.idle.connect(self._idle)
        bridge.cancelled.connect(
            lambda title: self.foot.tell(f"Cancelled: {title}. Nothing was left half-done.")
        )
        self.head.route.chosen.connect(self.go)
        self.ledger.chosen.connect(self.select)
        self.foot.why.connect(self.show_why)
        self.foot.cancel.connect(self.session.jobs.cancel)
        self.welcome.open_wanted.connect(self.choose_files)
        self.welcome.again_wanted.connect(self.session.begin)
        self.welcome.demo_wanted.connect(lambda: self.project_wanted.emit("demo"))
        channels = self.step_named("channels")
        assert isinstance(channels, ChannelsStep)
        channels.stacks.open_button.clicked.connect(self.choose_files)
        LOOK.changed.connect(self._show_frame)

    # --- gestures ---

    def step_named(self, step_id: str) -> Step:
        return next(s for s in self.steps if s.id == step_id)

    def go(self, step_id: str) -> None:
        """Go to a step."""
        index = next(i for i, s in enumerate(self.steps) if s.id == step_id)
        if self.step is not self.steps[index]:
            self.step.leave()
        self.step = self.steps[index]
        self.shelves.setCurrentIndex(index)
        self._fit_shelf()
        self._show_stage()
        self.inspectors.setCurrentIndex(index)
        self.step.enter()
        (self.step.first or self.canvas).setFocus()
        self.foot.show_probe("")
        self._show_frame()
        self._show_advice()

    def _show_stage(self) -> None:
        self.stage.setCurrentWidget(
            self.step.stage or (self.canvas if self.session.painter else self.welcome)
        )

    def _fit_shelf(self) -> None:
        self.shelf_frame.setVisible(
            self.step.shelf is not None and self.session.painter is not None
        )
        if self.step.shelf is not None:
            self.shelves.setFixedHeight(self.step.shelf.minimumHeight())

    def select(self, channel: str) -> None:
        """Choose a channel."""
        self.selected = channel
        self.step.select(channel)
        self._show_frame()

    def choose_files(self) -> None:
        start = self.settings.get("folder", str(Path.home()))
        paths, _ = QFileDialog.getOpenFileNames(self, "Open stacks", start, _FILES)
        if paths:
            self.settings.set("folder", str(Path(paths[0]).parent))
            self.session.open_files([Path(p) for p in paths])

    def choose_project(self) -> None:
        found = QFileDialog.getExistingDirectory(self, "Open a project folder", str(Path.home()))
        if found:
            self.project_wanted.emit(Path(found))

    def guarded(self, action: Callable[[], object]) -> None:
        """Do something that the disk may refuse, and tell it if so."""
        try:
            action()
        except BichromusError as error:
            self.show_trouble([error])

    def undo(self) -> None:
        self.step.finish()
        label = self.session.document.undo()
        self.foot.tell(f"Undone: {label}." if label else "There is nothing to undo.")

    def redo(self) -> None:
        self.step.finish()
        label = self.session.document.redo()
        self.foot.tell(f"Done again: {label}." if label else "There is nothing to do again.")

    def use_theme(self, theme_id: str) -> None:
        if theme_id != "red":
            self.settings.set("theme", theme_id)
        LOOK.use(theme_id)

    def toggle_red(self) -> None:
        """Red light on or off."""
        self.use_theme(self.settings.get("theme", "dusk") if LOOK.theme.red_only else "red")

    def cycle_theme(self) -> None:
        ids = list(THEMES)
        self.use_theme(ids[(ids.index(LOOK.theme.id) + 1) % len(ids)])

    def show_why(self) -> None:
        if self.foot.advice is None:
            return
        if self.why_sheet.isVisible():
            self.why_sheet.put_away()
            return
        self.why_sheet.show_advice(self.foot.advice)
        self.why_sheet.open_at(184, self.height() - 38)

    def show_trouble(self, errors: Sequence[BichromusError]) -> None:
        """Say what went wrong, until it is put away."""
        self.trouble_sheet.show_errors(errors)
        self.trouble_sheet.open_at(184, self.height() - 38)

    def show_keys(self) -> None:
        if self.key_sheet.isVisible():
            self.key_sheet.put_away()
        else:
            self.key_sheet.open_at((self.width() - self.key_sheet.width()) // 2, 70, below=True)

    def search(self) -> None:
        self.finder.ask((self.width() - self.finder.width()) // 2, 60)

    def escape(self) -> None:
        """Put the top sheet away, else cancel the job."""
        for sheet in (self.finder, self.key_sheet, self.trouble_sheet, self.why_sheet):
            if sheet.isVisible():
                sheet.put_away()
                return
        self.session.jobs.cancel()

    # --- holding a key ---

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Holding a channel's letter shows it alone, whatever has the focus, unless something is
        typed.
        """
        if (
            not isinstance(event, QKeyEvent)
            or not isinstance(watched, QWidget)
            or watched.window() is not self
        ):
            return super().eventFilter(watched, event)
        key = Qt.Key(event.key()) if event.key() else Qt.Key.Key_unknown
        if (
            key == Qt.Key.Key_Space
            and self.step.stage is None
            and self.focusWidget() in (self.canvas, self.ledger)
        ):
            if not event.isAutoRepeat() and event.type() in (
                QEvent.Type.KeyPress,
                QEvent.Type.KeyRelease,
            ):
                self.hold_before(event.type() == QEvent.Type.KeyPress)
            return event.type() in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease)
        if (
            key not in HOLD_KEYS
            or event.modifiers()
            or isinstance(self.focusWidget(), (QLineEdit, QPlainTextEdit))
        ):
            return super().eventFilter(watched, event)
        if event.type() == QEvent.Type.KeyPress:
            if not event.isAutoRepeat():
                self.hold(HOLD_KEYS[key])
            return True
        if event.type() == QEvent.Type.KeyRelease:
            if not event.isAutoRepeat():
                self.release(HOLD_KEYS[key])
            return True
        return super().eventFilter(watched, event)

    def hold_before(self, on: bool) -> None:
        """Show the blend before the last change until Space is released."""
        if self.canvas.has_before:
            self.canvas.set_before(on)
            self.foot.tell("Before this step." if on else "As it is now.", 900)
            return
        if on and self.session.before is None:
            self.foot.tell("There is no earlier picture to compare with.")
            return
        if self.canvas.alone is None:
            self.canvas.set_before(on)
            self.foot.tell("Before the last change." if on else "As it is now.", 900)

    def hold(self, channel: str) -> None:
        """Show one channel alone until it is released."""
        if channel not in self.session.channels.chosen:
            self.foot.tell(f"There is no {channel} in this project.")
            return
        self._held = channel
        prepared = self.session.channels.channel(channel)
        self.canvas.set_alone(
            channel, (channel, f"{prepared.label}   SNR {snr_text(prepared.measure.snr)}")
        )

    def release(self, channel: str) -> None:
        if self._held == channel:
            self._held = None
            self.step.enter()

    # --- what is shown ---

    def _show_channels(self) -> None:
        painter = self.session.painter
        self._show_stage()
        self._fit_shelf()
        self.canvas.set_shape(painter.shape if painter else None)
        self.canvas.ask()
        self._thumbs.ask()
        self._show_frame()

    def _show_recipe(self, _recipe: Recipe | None) -> None:
        self.canvas.ask()
        self._thumbs.ask()
        self._frame.ask()

    def _show_frame(self) -> None:
        state = self.session.state
        count = len({s.station for s in state.sources if s.station})
        more = f"{count} {'station' if count == 1 else 'stations'}" if count else ""
        target = next((s.object_name for s in state.sources if s.object_name), "")
        self.head.show_project(state.name, " · ".join(p for p in (target, more) if p))
        marks = []
        for step in self.steps:
            condition, decisions = step.station()
            marks.append(Station(step.id, step.title, condition, decisions, step.tip))
        self.head.route.show_stations(marks, self.step.id)
        self.ledger.show_cards([self._card(n) for n in self._ledger_names()], self.selected)
        self.welcome.show_state(self.session.jobs.busy, bool(state.sources))
        self.setWindowTitle(f"{state.name} – Bichromus")

    def _ledger_names(self) -> list[str]:
        """The project's channels; while planning and logging also those that are still to
        be shot.
        """
        names = set(self.session.channels.names) | self.step.names()
        return sorted(names, key=channel_order)

    def _card(self, name: str) -> Card:
        key = next((k.name[-1] for k, n in HOLD_KEYS.items() if n == name), "")
        own = self.step.card(name, key)
        if own is not None:
            return own
        if name not in self.session.channels.chosen:
            held = clock_text(self.step.held_hours(name))
            return Card(
                name,
                held,
                "–",
                None,
                *self.step.figure(name),
                "",
                f"{held or 'Nothing'} of it yet.",
            )
        prepared = self.session.channels.channel(name)
        snr = prepared.measure.snr
        need = self.step.needs.get(name)
        figure = self.step.figure(name)
        hours = clock_text(self.step.held_hours(name) or prepared.hours)
        if need is None or snr is None:
            used = self.session.recipe is not None and name in self.session.recipe.settings.used()
            tip = f"{hours} gathered." if hours else "Its header tells no hours."
            return Card(
                name, hours, snr_text(snr), 1.0 if used and snr else None, *figure, key, tip
            )
        wanted = snr * need.factor
        more = f", {clock_text(need.hours_more)} more under the same sky" if need.hours_more else ""
        tip = f"SNR {snr_text(snr)} of the {snr_text(wanted)} that full colour would take{more}."
        return Card(
            name,
            hours,
            f"{snr_text(snr)} of {snr_text(wanted)}",
            1 / need.factor,
            *figure,
            key,
            tip,
            True,
        )

    def _show_stacked(self, made: list[Preliminary]) -> None:
        """A night was stacked: look at it in Channels, and say what could not be used."""
        words = ", ".join(f"{m.channel} of {m.subs} subs" for m in made)
        lost = [n for m in made for n in m.left_out]
        self.foot.tell(
            f"Stacked: {words}."
            + (
                f" Left out, their stars do not fit: {', '.join(lost[:3])}"
                f"{' and more' if len(lost) > 3 else ''}."
                if lost
                else ""
            ),
            9000,
        )
        channels = self.step_named("channels")
        assert isinstance(channels, ChannelsStep)
        channels.show_next_preliminary()
        self.go("channels")

    def _take_advice(self, topic: str, advice: object) -> None:
        self._topics[topic] = advice
        self._show_advice()

    def _show_advice(self) -> None:
        topic = self.step.id if self.step.id in ("plan", "log", "subs", "channels") else "blend"
        self.foot.show_advice(self._topics.get(topic))  # type: ignore[arg-type]

    def _idle(self) -> None:
        self.foot.show_job(None)
        self._show_frame()

    def _probe(self, x: int, y: int) -> None:
        painter, recipe = self.session.painter, self.session.recipe
        if painter is None:
            return
        alone = self.canvas.alone
        if alone is not None and (
            alone in painter.channels.origins or alone in painter.channels.chosen
        ):
            names = [painter.find(alone).channel]
            value, snr = painter.probe_one(painter.find(alone), x, y)
            found = {names[0]: (value, snr)}
        else:
            names = list(recipe.settings.used()) if recipe else painter.channels.names
            found = {n: v for n, v in painter.probe(x, y).items() if n in names}
        if found:
            values = "  ".join(f"{n} {value_text(v)}" for n, (v, _) in found.items())
            snrs = " / ".join(f"{s:.0f}" for _, s in found.values())
            self.foot.show_probe(f"{values}   SNR {snrs}   {x}, {y}")

    # --- events of the window ---

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        for sheet in (self.why_sheet, self.trouble_sheet):
            if sheet.isVisible():
                sheet.move(184, self.height() - 38 - sheet.height())

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        if event is not None:
            data = event.mimeData()
            if data is not None and data.hasUrls():
                event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if data is None:
            return
        paths = [Path(u.toLocalFile()) for u in data.urls() if u.isLocalFile()]
        self.take_paths(paths)

    def take_paths(self, paths: Sequence[Path]) -> None:
        """Open dropped files; a folder gives the files in it, a project folder opens the
        project.
        """
        projects = [p for p in paths if p.suffix == ".bichromus" and p.is_dir()]
        if projects:
            self.project_wanted.emit(projects[0])
            return
        endings = {".fits", ".fit", ".fts", ".fz", ".gz", ".tif", ".tiff", ".png"}
        files = [
            f
            for p in paths
            for f in (
                sorted(c for c in p.iterdir() if c.suffix.lower() in endings) if p.is_dir() else [p]
            )
        ]
        if files:
            self.session.open_files(files)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        focused = self.focusWidget()
        self.step.finish()
        if focused is not None:
            focused.clearFocus()  # what was typed and not yet confirmed counts
        self.settings.set("geometry", bytes(self.saveGeometry().toBase64().data()).decode())
        app = QApplication.instance()
        if app is not None:
            app.removeEventFilter(self)
        self.session.close()
        self.bridge.close()
        self.closed.emit(self)
        super().closeEvent(event)
