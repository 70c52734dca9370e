"""The window: route above, channels and inspector beside the stage, advice at the foot."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import QByteArray, Qt, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QResizeEvent
from PyQt6.QtWidgets import QMainWindow

from ...core.model.errors import BichromusError
from ...workspace.library.settings import Settings
from ...workspace.session import Session
from ..bridge import Bridge
from ..canvas import Canvas
from ..steps import Step, find_steps
from ..steps.step import StepContext, WindowActions
from ..theme.look import LOOK
from ..widgets.later import Later, Pause
from ..widgets.text import snr_text
from .cards import card_of, listed_channels, probe_text
from .channel_list import ChannelList
from .commands import MORE_KEYS, make_commands
from .files import choose_pictures, choose_project, dropped_paths, pictures_in, project_in
from .head import Head
from .hold_keys import HoldKeys
from .layout import StepPanels, lay_out
from .route import StepMark
from .sheet_stack import SheetStack
from .status_bar import StatusBar
from .welcome import Welcome

FIRST_STEP = "channels"
_THUMBNAIL_PX = 240
_THUMBNAILS_AFTER_MS = 800  # a hand that rests for less moves on: nothing small holds it up
_PEEK_MS = 900


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
        self._advice: dict[str, object] = {}
        actions = WindowActions(self.go, self.choose_files)
        context = StepContext(session, self.bridge, self.canvas, self, settings, actions)
        self.steps: list[Step] = [make(context) for make in find_steps()]
        self.step = self.step_named(FIRST_STEP)
        self.head, self.channel_list = Head(self), ChannelList()
        self.status_bar, self.welcome = StatusBar(), Welcome()
        self.panels = StepPanels(self.steps, self.welcome, self.canvas)
        self.setCentralWidget(lay_out(self.head, self.channel_list, self.panels, self.status_bar))
        self._thumbs = Pause(
            self, lambda: session.blend.request_thumbnails(_THUMBNAIL_PX), _THUMBNAILS_AFTER_MS
        )
        self._frame = Later(self, self._show_frame)
        self.commands = make_commands(self)
        self.sheets = SheetStack(self, self.commands, MORE_KEYS)
        self._keys = HoldKeys(self, self.hold, self.release, self.hold_before, self._space_is_free)
        self._wire()
        self._restore()
        self.go(FIRST_STEP)

    def _restore(self) -> None:
        self.setAcceptDrops(True)
        self.setMinimumSize(1100, 700)
        self.resize(1280, 800)
        geometry = self.settings.get("geometry")
        if isinstance(geometry, str):
            self.restoreGeometry(QByteArray.fromBase64(geometry.encode("ascii", "ignore")))

    def _wire(self) -> None:
        bridge, canvas, status_bar = self.bridge, self.canvas, self.status_bar
        canvas.wanted.connect(self.session.blend.request_view)
        canvas.pointed.connect(self._probe)
        canvas.left.connect(lambda: status_bar.show_probe(""))
        bridge.rendered.connect(canvas.show_answer)
        bridge.crops_measured.connect(canvas.show_crop_stars)
        bridge.channels.connect(self._frame.ask)
        bridge.recipe.connect(self._show_picture)
        for changed in (bridge.state, bridge.judged, bridge.planned, bridge.logged):
            changed.connect(self._frame.ask)
        bridge.reviewed.connect(self._frame.ask)
        bridge.message.connect(status_bar.say)
        bridge.advice.connect(self._take_advice)
        bridge.errors.connect(self.show_errors)
        bridge.job.connect(status_bar.show_job)
        bridge.idle.connect(self._idle)
        bridge.tried.connect(self.sheets.about.show_findings)
        self.sheets.about.wanted.connect(self.session.try_demands)
        bridge.cancelled.connect(
            lambda title: status_bar.say(f"Cancelled: {title}. Nothing was left half-done.")
        )
        self.head.route.chosen.connect(self.go)
        self.channel_list.chosen.connect(self.select)
        status_bar.why.connect(self.show_why)
        status_bar.cancel.connect(self.session.jobs.cancel)
        self.welcome.open_wanted.connect(self.choose_files)
        self.welcome.again_wanted.connect(self._prepare_again)
        self.sheets.outside.allowed.connect(self.session.allow)
        self.welcome.demo_wanted.connect(lambda which: self.project_wanted.emit(f"demo {which}"))
        self.welcome.subs_wanted.connect(self.choose_subs)
        self.welcome.night_wanted.connect(lambda: self.go("plan"))
        self.welcome.project_wanted.connect(self.project_wanted)
        LOOK.changed.connect(self._show_frame)

    # --- gestures ---

    def step_named(self, step_id: str) -> Step:
        """A step by its id. Raises StopIteration."""
        return next(s for s in self.steps if s.id == step_id)

    def choose_subs(self) -> None:
        """Take in a folder of subs, in the log."""
        self.go("log")
        taking = next((c for c in self.commands if c.id == "take-in"), None)
        if taking is not None:
            taking.run()

    def go(self, step_id: str) -> None:
        """Go to a step."""
        step = self.step_named(step_id)
        if self.step is not step:
            self.step.leave()
        self.step = step
        self.panels.show_step(self.steps.index(step))
        self._show_stage()
        step.enter()
        (step.first or self.canvas).setFocus()
        self.status_bar.show_probe("")
        self._show_frame()
        self._show_advice()

    def begin(self) -> None:
        """Follow the project; one from elsewhere is asked about first."""
        if self.session.asks:
            self.sheets.ask_about(self.session.asks)
        else:
            self.session.follow()

    def _prepare_again(self) -> None:
        if self.session.asks:
            self.begin()
        else:
            self.session.channels.prepare_again()

    def select(self, channel: str) -> None:
        """Choose a channel."""
        self.selected = channel
        self.step.select(channel)
        self._show_frame()

    def choose_files(self) -> None:
        """Choose stacks, and open them."""
        paths = choose_pictures(self, self.settings)
        if paths:
            self.session.channels.open_files(paths)

    def choose_project(self) -> None:
        """Choose a project, and open it."""
        found = choose_project(self)
        if found is not None:
            self.project_wanted.emit(found)

    def take_paths(self, paths: Sequence[Path]) -> None:
        """Open dropped files; a folder gives the files in it, a project folder opens the
        project.
        """
        project = project_in(paths)
        if project is not None:
            self.project_wanted.emit(project)
            return
        files = pictures_in(paths)
        if files and not self.step.take_files(files):
            self.session.channels.open_files(files)

    def guarded(self, action: Callable[[], object]) -> None:
        """Do something that the disk may refuse, and say so if it does."""
        try:
            action()
        except BichromusError as error:
            self.show_errors([error])

    def undo(self) -> None:
        """Undo the last gesture, once the one in hand has ended."""
        self.step.finish()
        self.guarded(self._undo)

    def _undo(self) -> None:
        label = self.session.document.undo()
        self.status_bar.say(f"Undone: {label}." if label else "There is nothing to undo.")

    def redo(self) -> None:
        """Do again what was undone."""
        self.step.finish()
        self.guarded(self._redo)

    def _redo(self) -> None:
        label = self.session.document.redo()
        self.status_bar.say(f"Done again: {label}." if label else "There is nothing to do again.")

    def show_why(self) -> None:
        """The figures behind the sentence at the foot."""
        self.sheets.show_why(self.status_bar.advice)

    def show_errors(self, errors: Sequence[BichromusError]) -> None:
        """Say what went wrong, until it is put away."""
        self.sheets.show_errors(errors)

    def escape(self) -> None:
        """Put the top sheet away, else cancel the job."""
        if not self.sheets.put_away_top():
            self.session.jobs.cancel()

    # --- holding a key ---

    def _space_is_free(self) -> bool:
        here = self.focusWidget() in (self.canvas, self.channel_list)
        return self.step.stage is None and here

    def hold_before(self, on: bool) -> None:
        """Show what was before: the channel's last step, or the blend's last change, until Space
        is released.
        """
        if self.canvas.has_before:
            self.canvas.set_before(on)
            self.status_bar.say("Before this step." if on else "As it is now.", _PEEK_MS)
            return
        if on and self.session.blend.snapshot.previous is None:
            self.status_bar.say("There is no earlier picture to compare with.")
            return
        if self.canvas.alone is None:
            self.canvas.set_before(on)
            self.status_bar.say("Before the last change." if on else "As it is now.", _PEEK_MS)

    def hold(self, channel: str) -> None:
        """Show one channel alone until it is released."""
        channels = self.session.channels.snapshot
        if channel not in channels.chosen:
            self.status_bar.say(f"There is no {channel} in this project.")
            return
        self._held = channel
        prepared = channels.channel(channel)
        words = f"{prepared.label}   SNR {snr_text(prepared.measure.snr)}"
        self.canvas.set_alone(channel, (channel, words))

    def release(self, channel: str) -> None:
        """Back to what the step shows."""
        if self._held == channel:
            self._held = None
            self.step.enter()

    # --- what is shown ---

    def _show_stage(self) -> None:
        renderer = self.session.blend.snapshot.renderer
        picture = self.canvas if renderer is not None else self.welcome
        self.panels.stage.setCurrentWidget(self.step.stage or picture)
        # controls that have nothing to act on are not there
        asks = self.panels.stage.currentWidget() is self.welcome and not self.session.state.sources
        self.panels.inspectors.setVisible(not asks)
        self.panels.fit_bottom(self.step, renderer is not None)

    def _show_picture(self) -> None:
        now = self.session.blend.snapshot
        self._show_stage()
        self.canvas.set_shape(now.renderer.shape_of(now.recipe) if now.renderer else None)
        rough = now.channels.rough
        self.canvas.set_remark("a quick look; the channels are on their way" if rough else "")
        self.canvas.ask(moving=self.session.document.states.passing)
        self._thumbs.ask()
        self._frame.ask()

    def _show_frame(self) -> None:
        state = self.session.state
        self.head.show_project(state)
        marks = [StepMark(s.id, s.title, *s.status(), s.tip) for s in self.steps]
        self.head.route.show_steps(marks, self.step.id)
        names = listed_channels(self.session, self.step)
        cards = [card_of(self.session, self.step, n) for n in names]
        self.channel_list.show_cards(cards, self.selected)
        self.welcome.show_state(
            self.session.jobs.busy, bool(state.sources), bool(self.session.asks)
        )
        here = self.session.document.folder
        self.welcome.show_recent([p for p in self.settings.recent() if p != here])
        self.setWindowTitle(f"{state.name} – Bichromus")

    def _take_advice(self, topic: str, advice: object) -> None:
        self._advice[topic] = advice
        self._show_advice()

    def _show_advice(self) -> None:
        topic = self.step.topic or self.step.id
        self.status_bar.show_advice(self._advice.get(topic))  # type: ignore[arg-type]

    def _idle(self) -> None:
        self.status_bar.show_job(None)
        self.sheets.about.rest()
        self._show_frame()

    def _probe(self, x: int, y: int) -> None:
        text = probe_text(self.session, self.canvas.alone, x, y)
        if text:
            self.status_bar.show_probe(text)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self.sheets.follow_size()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if event is not None and data is not None and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        if event is not None:
            self.take_paths(dropped_paths(event.mimeData()))

    def closeEvent(self, event: QCloseEvent | None) -> None:
        focused = self.focusWidget()
        self.step.finish()
        if focused is not None:
            focused.clearFocus()  # what was typed and not yet confirmed counts
        self.settings.set("geometry", bytes(self.saveGeometry().toBase64().data()).decode())
        self._keys.stop()
        self.bridge.close()
        self.session.close()
        self.closed.emit(self)
        super().closeEvent(event)
