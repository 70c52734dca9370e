"""Mutants of every form that is read: none ends in anything but a value or a sentence, and no
library says anything beside it.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from fuzz.child import outcome
from fuzz.corpus import run_corpus
from fuzz.forms import FORMS, Form
from fuzz.mutants import mutated

from bichromus.core.files import write_fits
from bichromus.core.model.planes import Header

EACH = 24


@pytest.mark.parametrize("form", FORMS, ids=lambda f: f.name)
def test_no_mutant_ends_in_anything_but_a_value_or_a_sentence(
    form: Form, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))  # forms of settings set their own
    path = tmp_path / form.file
    form.make(path)
    whole = path.read_bytes()
    form.read(path)
    ends = []
    for number in range(EACH):
        mutant = mutated(whole, np.random.default_rng([99, number, len(whole)]))
        path.write_bytes(mutant)
        kind, words = outcome(lambda: form.read(path))
        ends.append(kind)
        assert kind in ("read", "refused"), f"mutant {number}: {words}"
        assert form.name == "project" or path.read_bytes() == mutant
    assert capfd.readouterr().err == ""
    assert set(ends) != {"read"} or form.name.startswith("cache")


def test_what_was_found_once_stays_found(tmp_path: Path) -> None:
    by_name = {f.name: f for f in FORMS}
    deep = tmp_path / "things.json"
    deep.write_text('{"format": "bichromus-things", "sites": ' + "[" * 5000)
    assert outcome(lambda: by_name["things"].read(deep))[0] == "refused"
    form = by_name["cache, plane"]
    path = tmp_path / form.file
    form.make(path)
    whole = path.read_bytes()
    path.write_bytes(whole.replace(b"'fortran_order'", b"'fortran_ord(r'"))
    assert outcome(lambda: form.read(path)) == ("read", "")
    form = by_name["project"]
    path = tmp_path / form.file
    form.make(path)
    whole = path.read_bytes()
    right = b"TEXT NOT NULL,\n    start"
    assert right in whole
    for wrong in (b"`" + right[1:], b"\x80" + right[1:]):
        path.write_bytes(whole.replace(right, wrong))
        kind, words = outcome(lambda: form.read(path))
        assert (kind, "\n" in words) == ("refused", False), words


def test_a_folder_of_foreign_files_is_counted_by_how_each_ends(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    plane = np.random.default_rng(1).normal(0.1, 0.01, (128, 160)).astype(np.float32)
    write_fits(tmp_path / "good.fits", plane, Header())
    (tmp_path / "cut.fits").write_bytes((tmp_path / "good.fits").read_bytes()[:5000])
    (tmp_path / "words.txt").write_text("no picture")
    assert run_corpus(tmp_path) == 0
    assert capsys.readouterr().out == "3 files: 1 read, 2 refused\n"
