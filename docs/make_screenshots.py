"""Every picture of docs/screenshots, from the demo data, at 1280 x 800. Run by ``./run shots``."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QEventLoop, QPointF, QTimer
from PyQt6.QtWidgets import QApplication

FOLDER = Path(__file__).parent / "screenshots"


def settle(milliseconds: int) -> None:
    loop = QEventLoop()
    QTimer.singleShot(milliseconds, loop.quit)
    loop.exec()


def wait(until: Callable[[], bool], seconds: float = 120) -> None:
    """Until something holds, or fail."""
    for _ in range(int(seconds / 0.05)):
        if until():
            return
        settle(50)
    raise TimeoutError("the window did not get there")


GALAXY_CROP = (300, 150, 1000, 690)
"""What the picture of the galaxy keeps, in pixels of its grid."""


def finished(window: Any) -> bool:
    """Whether the picture stands on its layers, and nothing is under way."""
    now = window.session.blend.snapshot
    return (
        now.recipe is not None
        and bool(now.layers.continua)
        and now.layers is window.session.layers.snapshot
        and not window.session.jobs.busy
        and not window.session.previews.busy
    )


def watch_a_night(window: Any, folder: Path) -> None:
    """Some hours of a night in April, in which the focus begins to run away; the page in red."""
    from bichromus.app.steps.plan import PlanStep
    from bichromus.app.steps.plan.watch_page import NightWatchPage
    from bichromus.core.simulate.evening import Incident
    from bichromus.workspace.planning.rehearsal import make_evening, shoot, shots_of

    session, date = window.session, "2027-04-01"
    session.planning.set_plan("a night in April", date=date, goal_mode="even", even_hours=40.0)
    wait(
        lambda: (
            session.planning.snapshot.view.night.date.isoformat() == date
            and session.planning.snapshot.view.channels[0].wanted_h == 40.0
        )
    )
    view, plan = session.planning.snapshot.view, session.state.plan
    blocks = [(b.filter, b.start, b.end, b.subs, b.sub_s) for b in view.tonight.blocks]
    shots = shots_of(blocks)[:16]
    runs_away = Incident("focus", shots[9].start, shots[15].start, 1.6)
    evening = make_evening(
        view.site, view.rig, view.target, plan.filters, shots, view.forecast, 75.0, 0.0, [runs_away]
    )
    shoot(evening, folder, (301, 450))
    session.log.watch(str(folder))
    wait(lambda: len(session.night_watch.look().subs) == len(shots))
    window.go("plan")
    settle(1500)
    step = window.step_named("plan")
    assert isinstance(step, PlanStep)
    step.watch_night()
    page = window.findChild(NightWatchPage)
    page.tick()
    settle(300)
    page.grab().save(str(FOLDER / "night-watch.png"))
    page.close()


def hang_versions(window: Any) -> None:
    """Four versions of the picture on the wall, two of them picked."""
    session = window.session
    window.go("versions")
    ways = (
        ("hubble-order", {}),
        ("bicolour-shared", {}),
        ("line-hues", {"balance_auto": False, "balance": 0.35}),
        ("hubble-order", {"stars": {"source": "lines", "size": 0.5}}),
    )
    for number, (mapping, more) in enumerate(ways, 1):
        session.blend.set_mapping(mapping)
        if more:
            session.blend.set_settings("blend", **more)
        settle(600)
        wait(lambda: finished(window), 300)
        session.versions.keep()
        wait(lambda count=number: len(session.state.versions) == count)
    session.versions.toggle_favourite(session.state.versions[0].name)
    room = window.step_named("versions").stage.wall.room
    for hung in room.hung[:2]:
        room.look_at(hung.name)
        room.pick(hung.name)
    wait(lambda: not session.previews.busy)


def main() -> int:
    with tempfile.TemporaryDirectory() as config:
        os.environ["XDG_CONFIG_HOME"] = config
        from bichromus.app.shell.light import use_theme
        from bichromus.app.start import Application, make_application
        from bichromus.app.steps.blend import BlendStep
        from bichromus.app.steps.channels import ChannelsStep
        from bichromus.app.steps.publish import PublishStep
        from bichromus.app.steps.versions import VersionsStep
        from bichromus.app.theme.look import LOOK
        from bichromus.workspace.channels import commands
        from bichromus.workspace.demo.project import demo_project

        app = make_application()
        assert isinstance(app, QApplication)
        os.environ["XDG_DATA_HOME"] = str(Path(config) / "data")
        (Path(config) / "data").mkdir()
        LOOK.use("dusk")
        application = Application()
        window = application.open("new")
        window.resize(1280, 800)
        settle(200)
        FOLDER.mkdir(exist_ok=True)

        def shot(name: str) -> None:
            settle(900)
            window.grab().save(str(FOLDER / f"{name}.png"))
            print(FOLDER / f"{name}.png")

        shot("welcome")
        assert demo_project().parent.is_dir()
        window = application.open("demo nebula")
        window.resize(1280, 800)
        wait(lambda: finished(window), 300)
        settle(2500)
        channels = window.step_named("channels")
        assert isinstance(channels, ChannelsStep)
        window.go("channels")
        channels.show_origin("pool@O3")
        channels.chain.toggle("pool")
        window.canvas.pointed.emit(760, 520)
        shot("channels")
        origin = next(i.id for i in channels.sheet.row.items if i.title.startswith("O3  Balcony"))
        channels.show_origin(origin)
        channels.chain.toggle("gradient")
        channels.next_view()
        shot("channels-heights")
        channels.show_origin("pool@O3")
        window.session.do(commands.set_split(("O3",), True))
        wait(
            lambda: (
                "O3" in window.session.channels.snapshot.starless and not window.session.jobs.busy
            )
        )
        channels.chain.toggle("stars")
        channels.next_view()
        shot("channels-starless")
        channels.chain.toggle("stars")
        channels.figures.marks.click()
        channels.inspector.verticalScrollBar().setValue(2000)  # type: ignore[union-attr]
        shot("channels-figures")
        channels.figures.marks.click()
        window.canvas.toggle_crops()
        wait(lambda: len(window.canvas.crop_stars) == 5)
        shot("channels-crops")
        window.canvas.toggle_crops()
        window.go("plan")
        plan = window.session.state.plan
        window.session.planning.set_plan(
            "three rigs, and more hours",
            goal_mode="typed",
            goals={"Ha": 20.0, "O3": 30.0, "S2": 20.0, "R": 1.2, "G": 1.2, "B": 1.2},
            with_rigs=[r.name for r in plan.rigs[1:]],
        )
        settle(3500)
        shot("plan")
        window.session.planning.set_plan("as it was", **plan.model_dump())
        settle(1500)
        window.go("log")
        settle(1500)
        shot("log")
        window.go("subs")
        reviewer = window.session.subs
        reviewer.choose_channel("O3")
        wait(
            lambda: (
                reviewer.snapshot.group is not None
                and reviewer.snapshot.group.channel == "O3"
                and not window.session.jobs.busy
                and reviewer.snapshot.group.measured == len(reviewer.snapshot.group.subs)
            )
        )
        reviewer.next_waiting()
        settle(2500)
        shot("subs")
        window.go("blend")
        window.canvas.pointed.emit(760, 520)
        shot("blend")
        blend = window.step_named("blend")
        assert isinstance(blend, BlendStep)
        blend.sections.open(blend.masks)
        blend.masks.add_mask("colour", {"hue": (250.0, 40.0, 20.0)})
        blend.masks.change("lightness of a mask", lightness=0.25, chroma=0.4)
        settle(1200)
        shot("blend-mask")
        blend.masks.remove_chosen()
        window.session.blend.set_mapping("bicolour-shared")
        window.canvas.zoom_by(2.4, QPointF(390, 250))
        settle(1200)
        window.show_why()
        shot("why")
        window.escape()
        window.canvas.fit()
        window.session.blend.set_mapping("hubble-order")
        settle(1200)
        hang_versions(window)
        shot("versions")
        versions = window.step_named("versions")
        assert isinstance(versions, VersionsStep)
        versions.open_picks()
        versions.set_way("wipe")
        wait(lambda: not window.session.previews.busy)
        shot("versions-compare")
        versions.back_to_wall()
        window.go("blend")
        use_theme(window.settings, "red")
        shot("red-light")
        with tempfile.TemporaryDirectory() as subs:
            watch_a_night(window, Path(subs))
            window.session.log.watch("")
        use_theme(window.settings, "day")
        window.go("publish")
        publish = window.step
        assert isinstance(publish, PublishStep)
        publish.set_folder("/home/imager/pictures")  # of nobody
        window.session.publishing.set_publish("form", shape="3:2", caption=True, sizes=(0, 1920))
        settle(1500)
        shot("publish-day")
        use_theme(window.settings, "dusk")
        window = application.open("demo galaxy")
        window.resize(1280, 800)
        wait(lambda: finished(window), 300)
        window.go("blend")
        window.session.blend.set_settings("crop", finish={"crop": GALAXY_CROP})
        window.session.blend.set_settings("cores", tone={"cores": 0.2})
        settle(2500)
        blend = window.step_named("blend")
        assert isinstance(blend, BlendStep)
        blend.sections.open(blend.stars)
        shot("blend-galaxy")
        blend.sections.open(blend.finishing)
        blend.finishing.toggle_crop()
        shot("blend-crop")
        blend.frame.leave()
        window.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
