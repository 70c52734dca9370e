"""All that can be done, with its key: for shortcuts, the search and the sheet of keys."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtGui import QKeySequence, QShortcut

from ..canvas import Canvas
from ..steps.blend import BlendStep
from ..steps.channels import ChannelsStep
from ..steps.log import LogStep
from ..steps.plan import PlanStep
from ..steps.publish import PublishStep
from ..steps.subs import SubsStep
from .sheets import Command

if TYPE_CHECKING:
    from .window import Window

MORE_KEYS = (
    ("hold H O S", "Ha, O3 or S2 alone"),
    ("hold L R G B", "a broadband channel alone"),
    ("hold Space", "the picture before the last change"),
    ("wheel, drag", "zoom at the pointer, pan"),
    ("arrow keys", "move in the picture or a control"),
    ("Tab", "to the next control"),
    ("Home", "a slider back to its default"),
)


def make_commands(window: Window) -> list[Command]:
    """The commands of a window; those with a key get a shortcut. Esc is handled first of all."""
    blend, channels, publish = (window.step_named(i) for i in ("blend", "channels", "publish"))
    assert isinstance(blend, BlendStep)
    assert isinstance(channels, ChannelsStep)
    assert isinstance(publish, PublishStep)

    plan = window.step_named("plan")
    assert isinstance(plan, PlanStep)

    log = window.step_named("log")
    assert isinstance(log, LogStep)

    subs = window.step_named("subs")
    assert isinstance(subs, SubsStep)

    def picture() -> Canvas:
        """What zooms: the sub while subs are looked at."""
        return subs.canvas if window.step is subs else window.canvas

    def reviewing(action: object, *values: object) -> None:
        """Keys of the review act where subs are in view only."""
        if window.step is subs:
            action(*values)  # type: ignore[operator]

    def on_channels(action: object, *values: object) -> None:
        if window.step is channels:
            action(*values)  # type: ignore[operator]

    def logging(action: object, *values: object) -> None:
        window.go("log")
        action(*values)  # type: ignore[operator]

    def has_plan() -> bool:
        return window.session.plan is not None

    def has_picture() -> bool:
        return window.session.recipe is not None

    def blending(action: object, *values: float) -> None:
        if has_picture():
            action(*values)  # type: ignore[operator]

    def write() -> None:
        window.go("publish")
        publish.publish()

    def close() -> None:
        window.close()

    def want(what: str) -> None:
        window.project_wanted.emit(what)

    def next_origin(step: int) -> None:
        ids = [i.id for i in channels.sheet.row.items]
        if ids:
            here = ids.index(channels.selected) if channels.selected in ids else 0
            window.go("channels")
            channels.show_origin(ids[(here + step) % len(ids)])

    found = [
        Command(f"go-{s.id}", f"Go to {s.title}", str(n), partial(window.go, s.id), "step")
        for n, s in enumerate(window.steps, 1)
    ]
    found += [
        Command("fit", "Fit the picture", "F", lambda: picture().fit(), "view zoom"),
        Command("one", "One to one, and back", "Z", lambda: picture().one_to_one(), "view zoom"),
        Command("undo", "Undo", "Ctrl+Z", lambda: window.guarded(window.undo), "edit"),
        Command("redo", "Redo", "Ctrl+Shift+Z", lambda: window.guarded(window.redo), "edit"),
        Command("open", "Open stacks", "Ctrl+O", window.choose_files, "file"),
        Command(
            "publish", "Publish the picture", "Ctrl+E", write, "file export write", has_picture
        ),
        Command(
            "summary",
            "Copy the acquisition summary",
            "Ctrl+Shift+C",
            publish.copy_summary,
            "file",
            has_picture,
        ),
        Command(
            "cleaner",
            "Balance toward clean",
            "]",
            lambda: blending(blend.nudge, 0.02),
            "blend",
            has_picture,
        ),
        Command(
            "colour",
            "Balance toward colour",
            "[",
            lambda: blending(blend.nudge, -0.02),
            "blend",
            has_picture,
        ),
        Command(
            "auto",
            "Balance automatic, or by hand",
            "A",
            lambda: blending(blend.set_auto, not window.session.state.settings.balance_auto),
            "blend",
            has_picture,
        ),
        Command(
            "next-palette",
            "Next palette",
            "P",
            lambda: blending(blend.step_palette, 1),
            "blend mapping",
            has_picture,
        ),
        Command(
            "last-palette",
            "Previous palette",
            "Shift+P",
            lambda: blending(blend.step_palette, -1),
            "blend mapping",
            has_picture,
        ),
        Command("next-channel", "Next channel", "C", lambda: next_origin(1), "channels"),
        Command("last-channel", "Previous channel", "Shift+C", lambda: next_origin(-1), "channels"),
        Command(
            "blink",
            "Blink with the channel before",
            "E",
            lambda: on_channels(channels.blink),
            "channels compare",
        ),
        Command(
            "nine",
            "Nine crops at one to one, or the whole",
            "T",
            lambda: on_channels(channels.toggle_nine),
            "channels corners tilt",
        ),
        Command(
            "next-link",
            "Next step of the channel's chain",
            "J",
            lambda: on_channels(channels.chain.step, 1),
            "channels align gradient pool stars",
        ),
        Command(
            "last-link",
            "Previous step of the chain",
            "Shift+J",
            lambda: on_channels(channels.chain.step, -1),
            "channels",
        ),
        Command(
            "flip-link",
            "Switch this step of the chain on or off",
            "I",
            lambda: on_channels(channels.chain.flip),
            "channels gradient pool continuum stars",
        ),
        Command(
            "next-look",
            "Next view of this step",
            "V",
            lambda: on_channels(channels.next_look),
            "channels mask model",
        ),
        Command(
            "cores",
            "Mark full cores and halos, or not",
            "M",
            lambda: on_channels(channels.figures.marks.click),
            "channels saturated blown",
        ),
        Command(
            "misses",
            "Show how stars miss after alignment, or not",
            "",
            lambda: on_channels(channels.show_misses),
            "channels residual",
        ),
        Command(
            "draw-sky",
            "Draw what must not count as sky, or stop",
            "",
            lambda: on_channels(channels.draw_sky),
            "channels gradient mask",
        ),
        Command(
            "split-all",
            "Split the stars off all channels",
            "",
            lambda: window.session.set_split(window.session.channels.names, True),
            "channels starless layer",
        ),
        Command(
            "measured-leaks",
            "Use the measured leaks",
            "",
            lambda: on_channels(channels.use_measured),
            "channels extract response",
        ),
        Command(
            "compute-again",
            "Delete the cache and compute every channel again",
            "",
            window.session.compute_again,
            "channels",
        ),
        Command(
            "response",
            "Load or drop a sensor response",
            "",
            channels.choose_response,
            "channels extract",
        ),
        Command(
            "things",
            "Sites, rigs, filters and targets",
            "Ctrl+T",
            plan.edit_things,
            "plan horizon import export",
        ),
        Command("year", "A year at a glance", "Y", plan.show_year, "plan season months", has_plan),
        Command(
            "save-plan",
            "Save tonight's plan",
            "Ctrl+P",
            plan.choose_file,
            "plan checklist calendar export",
            has_plan,
        ),
        Command(
            "take-in",
            "Take in a folder of subs",
            "Ctrl+I",
            lambda: logging(log.growing.choose_folder),
            "log headers intake",
        ),
        Command(
            "watch",
            "Watch a folder, or stop",
            "Ctrl+Shift+I",
            lambda: logging(log.growing.choose_watched),
            "log subs arrive",
        ),
        Command(
            "rehearse",
            "Rehearse tonight, or stop",
            "",
            lambda: logging(log.growing.toggle_rehearsal),
            "log simulated camera evening",
            has_plan,
        ),
        Command(
            "type-run",
            "Type a run",
            "Ctrl+L",
            lambda: logging(log.open_run, None),
            "log hours night",
        ),
        Command(
            "paste-runs", "Paste a table of runs", "Ctrl+V", lambda: logging(log.paste), "log table"
        ),
        Command(
            "copy-summary",
            "Copy the summary of the log",
            "",
            lambda: logging(log.copy_summary, "text"),
            "log hours text",
        ),
        Command(
            "contribution",
            "Take in a contribution",
            "",
            lambda: logging(log.choose_contribution),
            "log pool people",
        ),
        Command(
            "contribute",
            "Export a contribution",
            "",
            lambda: logging(log.choose_export),
            "log pool people",
        ),
        Command("next-sub", "Next sub", ".", lambda: reviewing(subs.step, 1), "subs step run"),
        Command("last-sub", "Previous sub", ",", lambda: reviewing(subs.step, -1), "subs step run"),
        Command(
            "next-waiting",
            "Next sub that wants a decision",
            "D",
            lambda: reviewing(window.session.reviewer.next_waiting),
            "subs suggested",
        ),
        Command(
            "keep",
            "Keep this sub",
            "K",
            lambda: reviewing(window.session.reviewer.decide, True),
            "subs",
        ),
        Command(
            "reject",
            "Reject this sub",
            "X",
            lambda: reviewing(window.session.reviewer.decide, False),
            "subs out",
        ),
        Command(
            "undecide",
            "Undecide this sub",
            "U",
            lambda: reviewing(window.session.reviewer.undecide),
            "subs",
        ),
        Command(
            "suggested",
            "Take all suggestions",
            "Shift+X",
            lambda: reviewing(subs.take_suggestions),
            "subs out",
        ),
        Command(
            "stack-night",
            "Stack this night",
            "Ctrl+Return",
            lambda: reviewing(window.session.stack_night),
            "subs preliminary quick",
        ),
        Command(
            "list-kept",
            "List the kept subs",
            "",
            lambda: reviewing(subs.choose_list),
            "subs export",
        ),
        Command("why", "Why this advice", "W", window.show_why, "advice"),
        Command("red", "Red light", "N", window.toggle_red, "theme night"),
        Command("theme", "Next theme", "Shift+N", window.cycle_theme, "theme day dusk"),
        Command("find", "Find a command", "Ctrl+K", window.search),
        Command("keys", "All keys", "?", window.show_keys, "help"),
        Command("new", "New project", "Ctrl+N", lambda: want("new"), "project"),
        Command("project", "Open a project", "Ctrl+Shift+O", window.choose_project, "project"),
        Command("demo", "Open the demo", "", lambda: want("demo"), "project"),
        Command("rename", "Rename the project", "F2", window.head.rename, "project"),
        Command("escape", "Put a sheet away, cancel a job", "Esc", window.escape),
        Command("close", "Close the window", "Ctrl+W", close, "quit"),
    ]
    for command in found:
        if command.key:
            QShortcut(QKeySequence(command.key), window, command.run)
    return found
