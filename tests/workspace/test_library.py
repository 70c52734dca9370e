"""The person's library: one file for all projects, edited from several windows at once."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from bichromus.core.model.errors import BichromusError
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.library.edits import find, merged, own, put
from bichromus.workspace.library.person import PersonLibrary
from bichromus.workspace.library.things import (
    BandThing,
    FilterThing,
    PlanState,
    RigThing,
    SiteThing,
    TargetThing,
    Things,
)
from bichromus.workspace.planning.library import LibraryController
from bichromus.workspace.session import Session
from stepped import stepped_session

LOFT = SiteThing(name="Loft", lat=48.9, lon=14.3, sky_mag=19.8)
DUO = FilterThing(
    name="Duo", bands=(BandThing(channel="Ha", width_nm=3), BandThing(channel="O3", width_nm=3))
)
RIG = RigThing(
    name="Small", aperture_mm=80, focal_mm=400, pixel_um=3.76, sensor_px=(6248, 4176), colour=True,
    site="Loft", filters=("Duo",),
)  # fmt: skip
RAVEN = TargetThing(name="Raven Veil", ra=10.0, dec=40.0, kind="remnant")
KNOWN = Things(sites=(LOFT,), rigs=(RIG,), filters=(DUO,), targets=(RAVEN,))


@pytest.fixture
def session(tmp_path: Path) -> Iterator[Session]:
    made = stepped_session(tmp_path / "p.bichromus", "x")
    yield made
    made.close()


def heard(session: Session) -> list[str]:
    out: list[str] = []
    session.errors.connect(lambda errors: out.extend(e.sentence() for e in errors))
    return out


def test_two_windows_lose_nothing_of_each_other() -> None:
    windows = [PersonLibrary() for _ in range(4)]

    def work(number: int) -> None:
        for n in range(6):
            site = SiteThing(name=f"{number}-{n}", lat=n, lon=number)
            windows[number].change(lambda things, s=site: put(things, "sites", s))

    threads = [threading.Thread(target=work, args=(n,)) for n in range(4)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert {s.name for s in PersonLibrary().things.sites} == {
        f"{a}-{b}" for a in range(4) for b in range(6)
    }
    assert all(len(w.things.sites) == 24 for w in windows)  # each sees what the others kept


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("{", "Expecting"),
        ("{}", "not a file of things"),
        (json.dumps({"format": "bichromus-things", "version": 9}), "newer version"),
        (json.dumps({"format": "bichromus-things", "version": 2, "sites": [{"name": 3}]}), "site"),
    ],
)
def test_a_library_that_cannot_be_used_is_told_and_left_as_it_is(
    session: Session, text: str, why: str
) -> None:
    path = session.library.library.path
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text)
    library = PersonLibrary(path)
    assert library.things == Things()
    assert library.fault is not None
    assert why in library.fault.sentence()
    with pytest.raises(BichromusError, match="cannot be used"):
        library.change(lambda things: put(things, "sites", LOFT))
    said = heard(session)
    assert session.library.add("sites", LOFT) is not None  # the project keeps it all the same
    assert session.state.plan.sites == (LOFT,)
    assert "cannot be used" in said[0]
    assert path.read_text() == text


def test_a_rig_of_the_library_comes_with_its_filters_and_its_site(session: Session) -> None:
    control: LibraryController = session.library
    control.library.change(lambda _: KNOWN)
    assert [(x.name, x.in_project) for x in control.listed("rigs")] == [("Small", False)]
    assert control.use("rigs", "small")
    plan = session.state.plan
    assert (plan.rig, plan.rigs, plan.filters, plan.sites) == ("Small", (RIG,), (DUO,), (LOFT,))
    assert session.document.undo() == "choose the rig"
    assert session.state.plan == PlanState()
    assert not control.use("rigs", "none of this name")


def test_an_edit_is_kept_in_the_project_and_in_the_library(session: Session) -> None:
    control = session.library
    added = control.add("sites", LOFT)
    again = control.add("sites", LOFT)
    assert added is not None
    assert again is not None
    assert (added.name, again.name) == ("Loft", "Loft 2")
    darker = LOFT.model_copy(update={"sky_mag": 20.5, "name": "Attic"})
    assert control.edit("sites", "Loft", darker, "change name")
    assert find(session.state.plan, "sites", "attic") == darker
    assert find(control.library.things, "sites", "Attic") == darker
    said = heard(session)
    clash = darker.model_copy(update={"name": "LOFT 2"})
    assert not control.edit("sites", "Attic", clash, "change name")
    assert "called LOFT 2 already" in said[0]
    # undo is the project's: the library says otherwise then, and either can be taken
    session.document.undo()
    entry = next(x for x in control.listed("sites") if x.name == "Loft")
    assert (entry.in_library, entry.other) == (False, None)
    session.document.redo()
    control.library.change(lambda things: put(things, "sites", LOFT, "Attic"))
    control.edit("sites", "Attic", darker.model_copy(update={"name": "Loft"}), "change name")
    assert session.state.plan.sites[0].name == "Attic"  # a name that the library uses is taken
    control.library.change(lambda things: put(things, "sites", darker, "Loft"))
    changed = darker.model_copy(update={"elevation_m": 300.0})
    control.library.change(lambda things: put(things, "sites", changed))
    entry = next(x for x in control.listed("sites") if x.name == "Attic")
    assert entry.other == changed
    assert control.renew("sites", "Attic")
    assert session.state.plan.sites[0] == changed
    session.document.undo()
    assert control.keep("sites", "Attic")
    assert find(control.library.things, "sites", "Attic") == darker


def test_what_is_renamed_or_removed_takes_along_what_goes_by_its_name(session: Session) -> None:
    control = session.library
    control.library.change(lambda _: KNOWN)
    control.use("rigs", "Small")
    control.use("targets", "Raven Veil")
    session.planning.set_plan("with", with_rigs=("Small",), with_targets=("Raven Veil",))
    control.edit("rigs", "Small", RIG.model_copy(update={"name": "Tiny"}), "change name")
    control.edit("filters", "Duo", DUO.model_copy(update={"name": "Pair"}), "change name")
    control.edit("sites", "Loft", LOFT.model_copy(update={"name": "Attic"}), "change name")
    plan = session.state.plan
    assert (plan.rig, plan.with_rigs) == ("Tiny", ("Tiny",))
    assert (plan.rigs[0].filters, plan.rigs[0].site) == (("Pair",), "Attic")
    control.remove("targets", "Raven Veil")
    assert (session.state.plan.target, session.state.plan.with_targets) == ("", ())
    assert find(control.library.things, "targets", "Raven Veil") == RAVEN
    control.remove("targets", "Raven Veil")  # now it is the library's
    assert control.library.things.targets == ()
    control.put_back()
    assert control.library.things.targets == (RAVEN,)
    assert control.dropped is None


def test_the_demos_things_stay_apart(session: Session) -> None:
    session.planning.set_plan("things", **demo_plan().model_dump())
    control = session.library
    assert control.strangers() == Things()
    ridge = session.state.plan.sites[0]
    control.edit("sites", "Ridge", ridge.model_copy(update={"sky_mag": 21.0}), "change")
    assert session.state.plan.sites[0].sky_mag == 21.0
    assert control.library.things == Things()
    control.add("sites", LOFT)  # one's own in the demo's project is one's own
    assert control.library.things.sites == (LOFT,)


def test_things_of_an_older_project_are_offered_to_the_library(
    session: Session, tmp_path: Path
) -> None:
    control = session.library
    session.planning.set_plan("things", **KNOWN.model_dump())
    assert control.strangers() == KNOWN
    assert control.keep_strangers()
    assert control.library.things == KNOWN
    assert control.strangers() == Things()
    control.write_out(tmp_path / "all.json")
    other = PersonLibrary(tmp_path / "elsewhere" / "library.json")
    assert other.things == Things()
    stranger = LibraryController(session.context, other)
    stranger.take_in(tmp_path / "all.json")
    assert other.things == KNOWN
    assert own(merged(KNOWN, demo_plan())) == KNOWN


def test_filters_are_added_once(session: Session) -> None:
    control = session.library
    wide = FilterThing(name="Ha", bands=(BandThing(channel="Ha", width_nm=7),))
    control.library.change(lambda things: put(things, "filters", wide))
    mine = FilterThing(name="Ha", bands=(BandThing(channel="Ha", width_nm=3),))
    control.add_filters([mine, DUO])
    assert session.state.plan.filters == (wide, DUO)  # what the library knows by the name
    assert control.library.things.filters == (wide, DUO)
