"""The Plan step in the real window."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit
from pytestqt.qtbot import QtBot

from bichromus.app.shell.window import Window
from bichromus.app.start import Application
from bichromus.app.steps.plan import PlanStep
from bichromus.app.steps.plan.band import NightBand
from bichromus.app.steps.plan.guide import GuidePage
from bichromus.app.steps.plan.light import LightDialog
from bichromus.app.steps.plan.month import MonthDialog
from bichromus.app.steps.plan.sums import SumsDialog
from bichromus.app.steps.plan.thing_fields import from_text, to_text
from bichromus.app.steps.plan.thing_form import ThingForm
from bichromus.app.steps.plan.things import ThingsDialog
from bichromus.app.steps.plan.watch_page import NightWatchPage
from bichromus.app.steps.plan.words import cost_rows, hour_rows
from bichromus.app.steps.plan.year import YearDialog
from bichromus.app.widgets.choice import ChoiceBox
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.library.things import BandThing, GainMode
from bichromus.workspace.planning.held import Held, Shot


def plan_of(window: Window) -> PlanStep:
    step = window.step_named("plan")
    assert isinstance(step, PlanStep)
    return step


@pytest.fixture
def planned(qtbot: QtBot, window: Window) -> Window:
    """The window on the Plan step, with the demo's things."""
    window.session.planning.set_plan("things", **demo_plan().model_dump())
    qtbot.waitUntil(lambda: window.session.planning.snapshot.view is not None, timeout=120_000)
    window.go("plan")
    return window


def test_tonight_is_answered_without_scrolling(qtbot: QtBot, planned: Window) -> None:
    step = plan_of(planned)
    assert planned.panels.stage.currentWidget() is step.stage
    qtbot.waitUntil(
        lambda: step.stage.band.view is not None and bool(step.stage.rehearsal.pixels),
        timeout=120_000,
    )
    assert "night of 17 March, Ridge" in step.stage.heads["night"][0].text()
    assert "dark 21:34 to 05:59" in step.stage.heads["night"][1].text()
    assert step.stage.band.view.forecast.simulated  # type: ignore[union-attr]
    qtbot.waitUntil(lambda: planned.status_bar.advice is not None)
    assert planned.status_bar.advice is not None
    sentence = planned.status_bar.advice.sentence
    assert any(words in sentence for words in ("all night", "first", "Clouds")), sentence
    shown = [p[0].text() for p in step.subs.subs.rows if not p[0].isHidden()]
    assert shown == ["Ha", "O3", "S2", "R", "G", "B"]
    assert planned.channel_list.cards[0].label == "tonight"
    image = step.stage.band.grab().toImage()
    bright = sum(
        image.pixelColor(x, y).lightness() > 225
        for x in range(0, image.width(), 2)
        for y in range(0, image.height(), 2)
    )
    assert bright > 60  # the target's way is drawn


def test_another_night_site_and_cap_by_hand_and_back(qtbot: QtBot, planned: Window) -> None:
    step, session = plan_of(planned), planned.session
    qtbot.mouseClick(
        step.stage.strip,
        Qt.MouseButton.LeftButton,
        pos=step.stage.strip.rect_of(5).center().toPoint(),
    )
    qtbot.waitUntil(lambda: "22 March" in step.stage.heads["night"][0].text(), timeout=120_000)
    step.stage.strip.setFocus()
    qtbot.keyClick(step.stage.strip, Qt.Key.Key_Left)
    qtbot.waitUntil(lambda: "21 March" in step.stage.heads["night"][0].text(), timeout=120_000)
    step.where.boxes["site"].textActivated.emit("Balcony")
    qtbot.waitUntil(
        lambda: (
            session.planning.snapshot.view is not None
            and session.planning.snapshot.view.site.name == "Balcony"
        ),
        timeout=120_000,
    )
    step.subs.cap.setFocus()
    qtbot.keyClick(step.subs.cap, Qt.Key.Key_PageDown)
    qtbot.waitUntil(lambda: session.document.saved.plan.max_sub_s == 300, timeout=3000)
    step.order.order.activated.emit(1)
    qtbot.waitUntil(lambda: session.state.plan.order == "cycle")
    for _ in range(5):
        planned.undo()
    qtbot.waitUntil(
        lambda: (
            session.planning.snapshot.view is not None
            and session.planning.snapshot.view.site.name == "Ridge"
        ),
        timeout=120_000,
    )
    assert session.state.plan == demo_plan()


def test_the_camera_is_turned_by_mouse_and_keys(qtbot: QtBot, planned: Window) -> None:
    framing = plan_of(planned).stage.framing
    qtbot.waitUntil(lambda: framing.angle == 24.0, timeout=5000)
    middle = framing.rect().center()
    qtbot.mousePress(framing, Qt.MouseButton.LeftButton, pos=middle - QPoint(0, 60))
    qtbot.mouseMove(framing, middle - QPoint(60, 0))
    qtbot.mouseRelease(framing, Qt.MouseButton.LeftButton, pos=middle - QPoint(60, 0))
    assert planned.session.state.plan.camera_angle == pytest.approx(114, abs=3)
    dragged = framing.angle
    framing.setFocus()
    qtbot.keyClick(framing, Qt.Key.Key_Left)
    qtbot.waitUntil(lambda: planned.session.state.plan.camera_angle == dragged + 1, timeout=3000)
    assert planned.session.state.plan.camera_angle == pytest.approx(115, abs=3)
    qtbot.keyClick(framing, Qt.Key.Key_Left)
    planned.undo()  # the turn in hand is ended first, so that it is what is undone
    assert planned.session.state.plan.camera_angle == dragged + 1
    planned.redo()
    assert planned.session.state.plan.camera_angle == dragged + 2


def test_things_are_edited_with_every_field_a_command(planned: Window, tmp_path: Path) -> None:
    plan_of(planned).edit_things()
    dialog = planned.findChild(ThingsDialog)
    assert dialog is not None
    line = dialog.fields["lat"]
    line.setText("-44.5")
    line.editingFinished.emit()
    assert planned.session.state.plan.sites[0].lat == -44.5
    line = dialog.fields["lat"]
    line.setText("-144")
    line.editingFinished.emit()
    assert planned.session.state.plan.sites[0].lat == -44.5
    assert dialog.message.text().startswith("lat stays as it was: ")
    assert dialog.form.fields["lat"].text() == "-44.5"  # type: ignore[union-attr]
    horizon = tmp_path / "h.csv"
    horizon.write_text("azimuth_deg,altitude_deg\n0,33\n")
    dialog.take_horizon(horizon)
    assert planned.session.state.plan.sites[0].horizon == ((0.0, 33.0),)
    dialog.kind.setCurrentText("targets")
    dialog.show_kind()
    dialog.add()
    assert [t.name for t in planned.session.state.plan.targets] == [
        "Weaverbird Nebula",
        "New target",
    ]
    lines = dialog.fields["rayleigh"]
    lines.setText("Ha 80, O3 12")
    lines.editingFinished.emit()
    assert planned.session.state.plan.targets[1].rayleigh == {"Ha": 80.0, "O3": 12.0}
    for _ in range(2):  # out of the project, then out of the library
        dialog.remove()
    dialog.write_out(tmp_path / "things.json")
    dialog.take_in(tmp_path / "things.json")
    dialog.take_in(horizon)
    assert "cannot be taken in" in dialog.message.text()
    assert len(planned.session.state.plan.targets) == 1
    dialog.close()
    for name, value in (
        ("colour", True),
        ("horizon", ((1.0, 2.0), (3.0, 4.5))),
        ("aliases", ("a", "b")),
        ("rayleigh", {"Ha": 5.0}),
        ("sensor_px", (10, 20)),
        ("gain", None),
        ("filters", ("Ha", "Duo")),
    ):
        assert from_text(name, to_text(value)) == value
    bands = (BandThing(channel="Ha", width_nm=3.0, transmission=0.9, centre_nm=657.1),)
    made = tuple(BandThing(**b) for b in from_text("bands", to_text(bands)))
    assert made == bands
    modes = (GainMode(gain=100, read_noise_e=1.5, full_well_e=18000),)
    assert tuple(GainMode(**m) for m in from_text("gain_modes", to_text(modes))) == modes
    with pytest.raises(ValueError, match="write a band"):
        from_text("bands", "Ha wide")


def test_goals_forecast_year_and_paper(qtbot: QtBot, planned: Window, tmp_path: Path) -> None:
    step, session = plan_of(planned), planned.session
    step.hours.goal.activated.emit(1)
    qtbot.waitUntil(
        lambda: (
            step.hours.even.isVisible()
            and session.planning.snapshot.view is not None
            and any(c.wanted_h == 8.0 for c in session.planning.snapshot.view.channels)
        ),
        timeout=120_000,
    )
    step.hours.goal.activated.emit(2)
    qtbot.waitUntil(step.hours.typed.isVisible)
    step.hours.typed.setText("Ha 9, O3 12")
    step.hours.typed.editingFinished.emit()
    assert session.state.plan.goals == {"Ha": 9.0, "O3": 12.0}
    step.hours.type_goals("Ha much")
    assert "not clear" in planned.sheets.errors.text
    assert session.state.plan.goals == {"Ha": 9.0, "O3": 12.0}
    planned.escape()
    step.order.refocus.setFocus()
    qtbot.keyClick(step.order.refocus, Qt.Key.Key_Right)
    qtbot.waitUntil(lambda: session.state.plan.refocus_min == 80, timeout=3000)
    session.planning.set_plan("own forecast", forecast_csv=str(tmp_path / "none.csv"))
    qtbot.waitUntil(lambda: "forecast is not usable" in step.stage.errors.text(), timeout=120_000)
    assert step.stage.currentIndex() == 0
    step.where.choose_forecast()  # back to the simulated one
    qtbot.waitUntil(
        lambda: session.planning.snapshot.view is not None and step.stage.currentIndex() == 1,
        timeout=120_000,
    )
    step.show_year()
    qtbot.waitUntil(lambda: planned.findChild(YearDialog) is not None, timeout=120_000)
    year = planned.findChild(YearDialog)
    assert year is not None
    assert "Best months: April" in year.said.text()
    year.bars.chosen.emit("2027-05-02")
    qtbot.waitUntil(lambda: "2 May" in step.stage.heads["night"][0].text(), timeout=120_000)
    year.close()
    step.save_plan(tmp_path / "tonight.pdf")
    assert (tmp_path / "tonight.pdf").read_bytes().startswith(b"%PDF")


def test_a_horizon_is_drawn_and_a_target_found(qtbot: QtBot, planned: Window) -> None:
    plan_of(planned).edit_things()
    dialog = planned.findChild(ThingsDialog)
    assert dialog is not None
    sky = dialog.skyline
    qtbot.waitUntil(lambda: len(sky.points) == 6)
    qtbot.mousePress(sky, Qt.MouseButton.LeftButton, pos=sky.place_of(100, 50).toPoint())
    qtbot.mouseMove(sky, sky.place_of(100, 60).toPoint())
    qtbot.mouseRelease(sky, Qt.MouseButton.LeftButton, pos=sky.place_of(100, 60).toPoint())
    drawn = planned.session.state.plan.sites[0].horizon
    assert len(drawn) == 7
    assert any(abs(a - 100) <= 2 and abs(h - 60) <= 2 for a, h in drawn)
    qtbot.mousePress(sky, Qt.MouseButton.RightButton, pos=sky.place_of(100, 60).toPoint())
    assert len(planned.session.state.plan.sites[0].horizon) == 6
    dialog.fields["sky_mag"].setText("Bortle 4")
    dialog.fields["sky_mag"].editingFinished.emit()
    assert planned.session.state.plan.sites[0].sky_mag == 20.9
    dialog.kind.setCurrentText("targets")
    dialog.show_kind()
    qtbot.keyClicks(dialog.catalogue.query, "ic 2")
    assert dialog.catalogue.results.count() > 0
    dialog.catalogue.results.setCurrentRow(0)
    dialog.catalogue.take()
    assert planned.session.state.plan.targets[-1].name == "IC 2"
    assert "guess" in dialog.message.text()
    dialog.close()


def test_the_plan_is_saved_and_a_missing_thing_is_told(
    qtbot: QtBot, planned: Window, tmp_path: Path
) -> None:
    step = plan_of(planned)
    step.save_plan(tmp_path / "tonight.md")
    assert "Weaverbird Nebula" in (tmp_path / "tonight.md").read_text()
    assert step.checklist() == (tmp_path / "tonight.md").read_text()
    step.save_plan(tmp_path / "no" / "tonight.md")
    assert "folder of the output does not exist" in planned.sheets.errors.text
    planned.session.planning.set_plan("forget", sites=())
    guide = step.stage.guide
    qtbot.waitUntil(lambda: guide.isVisible() and not guide.parts["sites"].body.isHidden())
    qtbot.waitUntil(lambda: step.stage.band.view is None, timeout=120_000)
    planned.undo()
    qtbot.waitUntil(lambda: step.stage.band.view is not None, timeout=120_000)


def typed(form: ThingForm, **fields: str) -> None:
    for name, text in fields.items():
        field = form.fields[name]
        assert isinstance(field, QLineEdit)
        field.setText(text)
        field.editingFinished.emit()


def test_a_first_night_is_planned_from_nothing(qtbot: QtBot, application: Application) -> None:
    window = application.open("new")
    window.go("plan")
    guide = plan_of(window).stage.guide
    qtbot.waitUntil(lambda: guide.errors.text() == "Plan a night", timeout=120_000)
    assert [p.body.isHidden() for p in guide.parts.values()] == [False, True, True, True]
    assert plan_of(window).where.isHidden()
    guide.adds["sites"].click()  # nowhere yet
    assert "latitude" in guide.message.text()
    typed(guide.forms["sites"], name="Loft", lat="48.9", lon="14.3", sky_mag="Bortle 5")
    # left half done, and taken up again: what was typed is there
    window.go("log")
    again = GuidePage(window.session, window.settings)
    assert again.forms["sites"].fields["lat"].text() == "48.9"  # type: ignore[union-attr]
    window.go("plan")
    guide.adds["sites"].click()
    assert [p.body.isHidden() for p in guide.parts.values()] == [True, False, True, True]
    typed(guide.forms["rigs"], name="Small", aperture_mm="80", focal_mm="much")
    assert "focal mm stays as it was" in guide.message.text()
    colour = guide.forms["rigs"].fields["colour"]
    assert isinstance(colour, ChoiceBox)
    colour.setCurrentText("yes")
    colour.activated.emit(1)
    guide.adds["rigs"].click()
    assert [n for n, chip in guide.chips.items() if chip.isChecked()] == ["Ha+O3", "R+G+B"]
    guide.width_line.setText("wide")
    guide.adds["filters"].click()
    assert "width" in guide.message.text()
    guide.width_line.setText("6,5")
    guide.adds["filters"].click()
    assert [f.channels for f in window.session.state.plan.filters] == [
        ("Ha", "O3"),
        ("R", "G", "B"),
    ]
    assert window.session.state.plan.filters[0].bands[1].width_nm == 6.5
    qtbot.keyClicks(guide.catalogue.query, "ic 2944")
    guide.catalogue.results.setCurrentRow(0)
    guide.catalogue.take()
    qtbot.waitUntil(lambda: plan_of(window).stage.currentIndex() == 1, timeout=120_000)
    view = window.session.planning.snapshot.view
    assert view is not None
    assert (view.site.name, view.target.kind) == ("Loft", "emission")
    assert not plan_of(window).where.isHidden()
    # a second project: the library offers it all
    second = application.open("new")
    second.go("plan")
    guide = plan_of(second).stage.guide
    qtbot.waitUntil(lambda: guide.offers["rigs"].box.count() == 1, timeout=120_000)
    for kind in ("sites", "rigs", "targets"):
        guide.offers[kind].take.click()
    for _ in range(2):
        guide.offers["filters"].take.click()
    qtbot.waitUntil(lambda: plan_of(second).stage.currentIndex() == 1, timeout=120_000)


def test_a_rig_that_is_focused_by_temperature_is_asked_how_the_air_cools(
    qtbot: QtBot, planned: Window
) -> None:
    step, session = plan_of(planned), planned.session
    assert step.order.refocus.isVisibleTo(step.order)
    assert not step.order.cooling.isVisibleTo(step.order)
    rigs = tuple(
        r.model_copy(update={"focus_by": "temperature", "focus_after_c": 1.0})
        for r in session.state.plan.rigs
    )
    session.planning.set_plan("by temperature", rigs=rigs)
    qtbot.waitUntil(lambda: step.order.cooling.isVisibleTo(step.order))
    assert not step.order.refocus.isVisibleTo(step.order)
    step.order.cooling.settled.emit(2.0)

    def told() -> tuple[str, ...]:
        view = session.planning.snapshot.view
        return cost_rows(view)[0] if view is not None else ("",)

    qtbot.waitUntil(lambda: told()[:3] == ("focus run", "about every 30 min", "1 °C"))
    form = ThingForm()
    form.show_thing(rigs[0])
    assert form.fields["focus_by"].currentText() == "temperature"  # type: ignore[attr-defined]


def lane_words(band: NightBand, number: int) -> set[str]:
    """What a lane says under the mouse, from its left to its right."""
    lanes = band.rect_of_lanes()
    y = lanes.top() + (number + 0.5) * lanes.height() / len(band.view.lanes)  # type: ignore[union-attr]
    said = set()
    for x in range(0, band.width(), 6):
        QTest.mouseMove(band, QPoint(x, round(y)))
        QApplication.processEvents()
        said.add(band.toolTip())
    return said


def test_other_rigs_and_targets_take_part_by_a_tick(qtbot: QtBot, planned: Window) -> None:
    step, session = plan_of(planned), planned.session
    assert step.where.beside["target"].isHidden()  # there is no other
    beside = step.where.beside["rig"]
    assert beside.button.text() == "with no other rig"
    session.planning.set_plan("enough for all", goal_mode="even", even_hours=40.0)
    for rig in demo_plan().rigs[1:]:
        next(a for a in beside.menu.actions() if a.text() == rig.name).trigger()
    qtbot.waitUntil(
        lambda: step.stage.band.view is not None and len(step.stage.band.view.lanes) == 3,
        timeout=120_000,
    )
    assert beside.button.text() == "with Balcony, Shed"
    view = step.stage.band.view
    assert view is not None
    assert {b.channels for b in view.lanes[1].blocks} <= {("Ha", "O3"), ("O3", "S2")}
    words = lane_words(step.stage.band, 1)
    assert any("Ha+O3 of" in w for w in words)
    assert any("behind the horizon of Balcony, or below 25°, from" in w for w in words)
    assert not any("behind the horizon of Ridge" in w for w in lane_words(step.stage.band, 0))
    qtbot.waitUntil(
        lambda: (
            planned.status_bar.advice is not None
            and "Balcony: " in planned.status_bar.advice.sentence
        )
    )
    tips = [planned.status_bar.advice.why] if planned.status_bar.advice else []
    assert any("alone" in name for name, _ in tips[0])
    use = step.stage.strip.uses[view.night.date]
    assert {u.station for u in use} == {r.name for r in demo_plan().rigs}
    qtbot.mouseMove(step.stage.strip, step.stage.strip.rect_of(0).center().toPoint())
    beside.menu.actions()[0].trigger()
    qtbot.waitUntil(lambda: session.state.plan.with_rigs == (demo_plan().rigs[2].name,))


def test_it_is_said_whose_hours_are_told(qtbot: QtBot, planned: Window) -> None:
    step, planning = plan_of(planned), planned.session.planning
    ridge, balcony = (r.name for r in demo_plan().rigs[:2])
    shot = (Shot(ridge, "", "O3", 5.0), Shot(balcony, "", "Ha+O3", 5.0), Shot("x", "", "O3", 1.0))
    planning.follow({"O3": Held(5.0, shot=shot[:1])})
    qtbot.waitUntil(step.hours.counted.isHidden, timeout=120_000)
    planning.follow({"O3": Held(11.0, shot=shot)})
    qtbot.waitUntil(lambda: not step.hours.counted.isHidden(), timeout=120_000)
    assert step.hours.counted.text().startswith("In hours of Ridge: one of Balcony counts 0.")
    view = planning.snapshot.view
    assert view is not None
    o3 = next(r for r in hour_rows(view) if r[0] == "O3")
    assert "5h 00m of Balcony count 0." in o3[3]
    assert "1h 00m of x, a rig that is not known" in o3[3]
    assert o3[1].startswith("7h")


def test_an_empty_project_can_be_planned_before_any_stack(
    qtbot: QtBot, application: Application
) -> None:
    window = application.open("new")
    window.go("plan")
    qtbot.waitUntil(
        lambda: "There is no site yet" in window.session.planning.snapshot.error, timeout=120_000
    )
    window.session.planning.set_plan("things", **demo_plan().model_dump())
    qtbot.waitUntil(
        lambda: (
            window.session.planning.snapshot.view is not None
            and plan_of(window).stage.band.view is not None
        ),
        timeout=120_000,
    )
    assert window.session.planning.snapshot.view is not None
    assert (
        window.session.planning.snapshot.view.tonight.blocks
        or window.session.planning.snapshot.view.cloudy
    )
    qtbot.waitUntil(
        lambda: [c.channel for c in window.channel_list.cards] == ["Ha", "O3", "S2", "R", "G", "B"],
        timeout=5000,
    )
    window.select("O3")  # nothing of it yet, but it can be rehearsed
    qtbot.waitUntil(
        lambda: plan_of(window).stage.heads["try"][0].text() == "rehearsal of O3", timeout=120_000
    )
    window.go("channels")
    assert window.channel_list.cards == []
    assert window.panels.stage.currentWidget() is window.welcome


def test_targets_are_listed_and_one_key_plans_one(qtbot: QtBot, planned: Window) -> None:
    step, session = plan_of(planned), planned.session
    step.show_month()
    dialog = planned.findChild(MonthDialog)
    assert dialog is not None
    qtbot.waitUntil(lambda: bool(dialog.shown), timeout=120_000)
    hours = [round(x.hours_lines, 1) for x in dialog.shown]
    assert hours == sorted(hours, reverse=True)
    assert any(x.mine and x.name == "Weaverbird Nebula" for x in dialog.shown)
    dialog.kind.setCurrentText("galaxy")
    dialog.fit.setCurrentIndex(1)
    dialog.by.setCurrentIndex(1)
    dialog.when.setCurrentIndex(1)
    dialog.ask()
    qtbot.waitUntil(lambda: {x.kind for x in dialog.shown} == {"galaxy"}, timeout=120_000)
    dialog.search.setText("ngc 5128")
    assert [x.name for x in dialog.shown] == ["NGC 5128"]
    qtbot.keyClick(dialog.table, Qt.Key.Key_Return)
    qtbot.waitUntil(
        lambda: (
            session.planning.snapshot.view is not None
            and session.planning.snapshot.view.target.name == "NGC 5128"
        ),
        timeout=120_000,
    )
    assert session.state.plan.target_named().kind == "galaxy"
    for _ in range(2):  # chosen, added
        planned.undo()
    assert session.state.plan == demo_plan()


def test_the_light_of_an_hour_is_taken_apart(planned: Window) -> None:
    plan_of(planned).show_light()
    dialog = planned.findChild(LightDialog)
    assert dialog is not None
    assert dialog.sky.count() >= 3

    def cells(row: int) -> list[str]:
        found = [dialog.table.item(row, c) for c in range(dialog.table.columnCount())]
        return [x.text() if x is not None else "" for x in found]

    assert cells(0)[:2] == ["Ha", "Ha"]
    assert cells(0)[-1] == "100 %"
    assert cells(0)[5] == "–"  # no Moon in the dark
    moonlit = next(n for n in range(dialog.sky.count()) if "Moon" in dialog.sky.itemText(n))
    dialog.sky.setCurrentIndex(moonlit)
    dialog.show_sky()
    assert cells(1)[5] != "–"
    assert int(cells(1)[-1].removesuffix(" %")) < int(cells(0)[-1].removesuffix(" %")) < 100
    dialog.close()


def press(page: NightWatchPage, key: Qt.Key) -> None:
    """As in the window that has the keys."""
    page.keyPressEvent(QKeyEvent(QEvent.Type.KeyPress, key, Qt.KeyboardModifier.NoModifier))


def test_the_night_watch_is_read_from_two_metres(planned: Window) -> None:
    step = plan_of(planned)
    step.watch_night()
    page = planned.findChild(NightWatchPage)
    assert page is not None
    page.tick()
    words = page.lines()
    assert words[-1].startswith("No folder is watched")
    assert page.accessibleDescription() == " ".join(words)
    assert page.view is not None
    press(page, Qt.Key.Key_N)
    image = page.grab().toImage()
    colours = {image.pixelColor(x, y).getRgb() for x in range(0, 1200, 7) for y in range(0, 700, 7)}
    assert max(max(c[1], c[2]) for c in colours) < 100  # red light is red
    press(page, Qt.Key.Key_N)
    press(page, Qt.Key.Key_Escape)
    assert not page.isVisible()


def test_sums_on_paper_answer_as_they_are_typed(planned: Window) -> None:
    plan_of(planned).show_sums()
    dialog = planned.findChild(SumsDialog)
    assert dialog is not None
    assert "add 0.7 mm" in dialog.spacing.said.text()
    dialog.spacing.lines["parts, mm"].setText("20 35.7")
    assert dialog.spacing.said.text().endswith("it fits.")
    dialog.spacing.lines["parts, mm"].setText("much")
    assert "Write figures" in dialog.spacing.said.text()
    dialog.guider.lines["prism to guider, mm"].setText("60")
    assert "take away" in dialog.guider.said.text()
    shown = [row[0].text() for row in dialog.frame.table.rows if not row[0].isHidden()]
    assert shown == [r.name for r in demo_plan().rigs]
    assert "times as long" in dialog.cameras.note.text()
    assert "Open two stacks" in dialog.filters.said.text() or dialog.filters.boxes[0].count() >= 2
    dialog.close()
