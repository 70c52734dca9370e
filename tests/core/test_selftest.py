"""The program's own demands: met where they are said to be, and told truly where not."""

from __future__ import annotations

import json

import pytest

from bichromus.cli import selftest as verb
from bichromus.cli.main import run
from bichromus.core.model.progress import SILENT
from bichromus.core.selftest import Finding, colour, worst_of_each
from bichromus.core.selftest.stars import pool_findings, star_findings
from bichromus.core.simulate.processing import WAYS


def test_stars_and_pools_of_the_programs_own_skies_meet_their_demands() -> None:
    found = [*star_findings(2, SILENT), *pool_findings(1, SILENT)]
    missed = [f for f in found if not f.held and f.what != "stars counted, off"]
    assert missed == []
    counted = next(f for f in found if f.what == "stars counted, off")
    assert counted.figure < 25
    assert len({f.what for f in found}) == 7


@pytest.mark.parametrize("way", [WAYS[1], WAYS[4]], ids=lambda w: w.debayer)
def test_colour_stacks_of_every_way_meet_theirs(
    way: object, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(colour, "WAYS", (way,))
    found = list(colour.colour_findings(3, SILENT))
    assert [f.what for f in found if not f.held] == []
    assert len(found) == 3


def test_findings_are_told_with_their_limits_and_a_missed_one_shows_in_the_exit_code(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    good = Finding("left", "one", 1.2, 1.5, "sigma")
    near, bad = Finding("left", "two", 1.4, 1.5, "sigma"), Finding("found", "", 0.8, 0.9, "", True)
    assert worst_of_each([near, bad, good]) == [near, bad]
    assert not Finding("left", "three", float("nan"), 1.5).held
    for all_, code in (((good, near), 0), ((good, bad), 1)):
        monkeypatch.setattr(verb, "selftest", lambda *_a, f=all_: iter(f))
        assert run(["selftest", "--json"]) == code
        said = json.loads(capsys.readouterr().out)
        assert said["held"] == (code == 0)
        assert said["demands"][0]["value"] == 1.2
    assert run(["selftest"]) == 1
    out = capsys.readouterr().out
    assert "1.2 sigma" in out
    assert "at least 0.9" in out
    assert "1 missed" in out
    assert run(["selftest", "--seed", "-3"]) == 2
