"""The document under many hands: no change is built on a stale state, and none is lost."""

from __future__ import annotations

import random
import threading
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bichromus.core.model.errors import InputError, ProjectError, WriteFailed
from bichromus.workspace.demo.log import demo_runs
from bichromus.workspace.log.controller import put_runs
from bichromus.workspace.log.table import LogTable
from bichromus.workspace.project.document import Document
from bichromus.workspace.project.journal import Edit
from bichromus.workspace.project.state import ProjectState

RUNS = list(demo_runs().items())


def renamed(name: str) -> Callable[[ProjectState], ProjectState]:
    return lambda state: state.model_copy(update={"name": name})


def balanced(value: float) -> Callable[[ProjectState], ProjectState]:
    return lambda state: state.blended_with(balance=value)


def together(*works: Callable[[], None]) -> None:
    """Run functions side by side, all from one start; what one raises is raised."""
    barrier, faults = threading.Barrier(len(works)), []

    def run(work: Callable[[], None]) -> None:
        barrier.wait()
        try:
            work()
        except BaseException as error:
            faults.append(error)

    threads = [threading.Thread(target=run, args=(w,)) for w in works]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
        assert not thread.is_alive()
    if faults:
        raise faults[0]


def test_a_gesture_that_ends_during_an_intake_leaves_the_log_undoable(tmp_path: Path) -> None:
    document = Document(tmp_path / "p.bichromus", "p")
    log = LogTable(document)
    inside, settled = threading.Event(), threading.Event()

    def intake() -> None:
        for first in range(0, 8, 2):
            rows = dict(RUNS[first : first + 2])

            def write(edit: Edit, rows: dict[str, dict[str, object]] = rows) -> None:
                inside.set()
                put_runs(rows)(edit)

            log.edit("take in", write, merge="intake 1")

    def slider() -> None:
        assert inside.wait(10)
        for step in range(20):
            document.show("balance", balanced(step / 50))
        document.update("balance", balanced(0.4), ends="balance")
        settled.set()

    together(intake, slider)
    log.edit("one more", put_runs(dict(RUNS[9:10])))
    assert len(log.runs()) == 9
    assert document.state.blend.balance == 0.4
    while document.undo() is not None:
        pass
    assert log.runs() == []  # not one row of the intake stays
    assert document.state.blend.balance == 0.0
    while document.redo() is not None:
        pass
    assert len(log.runs()) == 9
    document.close()


def test_two_threads_with_sixty_commands_each_lose_none(tmp_path: Path) -> None:
    document = Document(tmp_path / "p.bichromus", "p")

    def count(kind: str) -> Callable[[], None]:
        def change(state: ProjectState) -> ProjectState:
            goals = dict(state.plan.goals)
            goals[kind] = goals.get(kind, 0.0) + 1
            return state.planned_with(goals=goals)

        def work() -> None:
            for n in range(60):
                document.update(f"{kind} {n}", change)

        return work

    together(count("Ha"), count("O3"))
    assert document.saved.plan.goals == {"Ha": 60.0, "O3": 60.0}
    labels = set()
    while (label := document.undo()) is not None:
        labels.add(label)
    assert labels == {f"{k} {n}" for k in ("Ha", "O3") for n in range(60)}
    assert document.saved.plan.goals == {}
    document.close()


def test_an_unfinished_slider_is_never_saved_under_another_command(tmp_path: Path) -> None:
    document = Document(tmp_path / "p.bichromus", "p")
    document.show("balance", balanced(0.7))
    document.update("open stacks", renamed("DEMO 12"))  # a job commits meanwhile
    assert document.states.passing
    assert (document.saved.name, document.saved.blend.balance) == ("DEMO 12", 0.0)
    assert (document.state.name, document.state.blend.balance) == ("DEMO 12", 0.7)
    # two controls on their way lie over each other, and each ends by itself
    document.show("saturation", lambda s: s.blended_with(colour={"saturation": 1.5}))
    document.update("balance", balanced(0.7), ends="balance")
    assert document.saved.blend.balance == 0.7
    assert document.saved.blend.colour.saturation == 1.0
    assert document.state.blend.colour.saturation == 1.5
    assert document.undo() == "balance"  # undo takes what is on its way off
    assert not document.states.passing
    # a control that ends where it began leaves no entry, and nothing on its way
    document.show("balance", balanced(0.3))
    document.update("balance", balanced(0.0), ends="balance")
    assert not document.states.passing
    assert document.store.neighbours()[0] == "open stacks"
    # what is on its way when the window closes is kept
    document.show("balance", balanced(0.25))
    document.keep_passing("last change")
    document.close()
    again = Document(tmp_path / "p.bichromus")
    assert again.saved.blend.balance == 0.25
    assert again.undo() == "last change"
    again.close()


def test_undo_and_redo_while_a_job_commits(tmp_path: Path) -> None:
    document = Document(tmp_path / "p.bichromus", "p")
    log = LogTable(document)
    log.edit("first", put_runs(dict(RUNS[:1])))
    held, go = threading.Event(), threading.Event()

    def slow(edit: Edit) -> None:
        put_runs(dict(RUNS[1:3]))(edit)
        held.set()
        assert go.wait(10)

    def undo() -> None:
        assert held.wait(10)
        threading.Timer(0.02, go.set).start()
        moves.append(document.undo())  # waits for the command that is being saved

    moves: list[str | None] = []
    together(lambda: log.edit("second", slow), undo)
    assert moves == ["second"]
    assert len(log.runs()) == 1
    assert document.redo() == "second"
    assert len(log.runs()) == 3
    document.close()


def test_closing_during_a_commit_saves_it_and_refuses_the_next(tmp_path: Path) -> None:
    document = Document(tmp_path / "p.bichromus", "p")
    held, go = threading.Event(), threading.Event()

    def slow(state: ProjectState) -> ProjectState:
        held.set()
        assert go.wait(10)
        return state.model_copy(update={"name": "kept"})

    def close() -> None:
        assert held.wait(10)
        threading.Timer(0.02, go.set).start()
        document.close()

    together(lambda: document.update("slow", slow) and None, close)  # type: ignore[func-returns-value]
    with pytest.raises(ProjectError, match="closed"):
        document.update("late", renamed("lost"))
    with pytest.raises(ProjectError):
        document.undo()
    again = Document(tmp_path / "p.bichromus")
    assert again.saved.name == "kept"
    again.close()


def test_a_change_that_fails_leaves_all_as_it_was(tmp_path: Path) -> None:
    document = Document(tmp_path / "p.bichromus", "p")
    log = LogTable(document)

    def broken(edit: Edit) -> None:
        put_runs(dict(RUNS[:2]))(edit)
        raise InputError("no")

    with pytest.raises(InputError):
        document.update("both", balanced(0.5), log_change=broken)
    assert (document.saved.blend.balance, log.runs()) == (0.0, [])
    with pytest.raises(ValueError, match="balance"):
        document.update("bad", balanced(7.0))
    with pytest.raises(ValueError, match="balance"):
        document.show("balance", balanced(7.0))
    assert not document.states.passing
    assert document.store.neighbours() == (None, None)

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    document.show("balance", balanced(0.5))
    document.store.append = full  # type: ignore[method-assign, assignment]
    with pytest.raises(WriteFailed):
        document.update("balance", balanced(0.5), ends="balance")
    assert document.state.blend.balance == 0.0
    document.close()


class Model:
    """What the document should be: a list of states with a cursor, and the runs of each."""

    def __init__(self) -> None:
        self.history: list[tuple[int, frozenset[str]]] = [(0, frozenset())]
        self.at = 0
        self.lock = threading.Lock()

    def push(self, number: int, runs: frozenset[str]) -> None:
        if (number, runs) != self.history[self.at]:
            self.history = [*self.history[: self.at + 1], (number, runs)]
            self.at += 1

    @property
    def now(self) -> tuple[int, frozenset[str]]:
        return self.history[self.at]


def seen(document: Document) -> tuple[int, frozenset[str]]:
    runs = frozenset(r["id"] for r in LogTable(document).runs())
    return round(document.saved.blend.balance * 1000), runs


def act(document: Document, model: Model, kind: str, rng: random.Random) -> None:
    """One move on both; a change reads what is saved, as a job would."""
    number, runs = model.now
    run_id, row = rng.choice(RUNS)
    if kind == "count":
        document.update(
            "count", lambda s: s.blended_with(balance=(round(s.blend.balance * 1000) + 1) / 1000)
        )
        model.push(number + 1, runs)
    elif kind == "add":
        document.update("add", log_change=put_runs({run_id: row}))
        model.push(number, runs | {run_id})
    elif kind == "drop":
        document.update("drop", log_change=lambda e: e.drop("runs", run_id))
        model.push(number, runs - {run_id})
    elif kind == "slide":
        document.show("x", lambda s: s.blended_with(balance=rng.random()))
    elif kind == "undo":
        done = document.undo()
        assert (done is None) == (model.at == 0)
        model.at = max(model.at - 1, 0)
    else:
        done = document.redo()
        assert (done is None) == (model.at == len(model.history) - 1)
        model.at = min(model.at + 1, len(model.history) - 1)


MOVES = st.lists(
    st.sampled_from(["count", "add", "drop", "slide", "undo", "redo"]), min_size=4, max_size=12
)


@settings(max_examples=20, deadline=None)
@given(st.tuples(MOVES, MOVES, MOVES), st.integers(0, 10**6))
def test_three_threads_of_commands_log_edits_undo_and_redo_follow_a_plain_model(
    scripts: tuple[list[str], list[str], list[str]], seed: int
) -> None:
    """Each move takes the model along under one lock, so the order that came about is the model's;
    passing changes run beside, unlocked.
    """
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        document = Document(Path(folder) / "p.bichromus", "p")
        model = Model()

        def work(script: list[str], own: int) -> Callable[[], None]:
            rng = random.Random(own)

            def run() -> None:
                for kind in script:
                    if kind == "slide":
                        act(document, model, kind, rng)
                        continue
                    with model.lock:
                        act(document, model, kind, rng)
                        assert seen(document) == model.now

            return run

        together(*(work(s, seed + n) for n, s in enumerate(scripts)))
        assert seen(document) == model.now
        document.close()
        again = Document(Path(folder) / "p.bichromus")
        assert seen(again) == model.now
        # all of the history is as the model has it
        while again.undo() is not None:
            model.at -= 1
            assert seen(again) == model.now
        assert model.at == 0
        while again.redo() is not None:
            model.at += 1
            assert seen(again) == model.now
        again.close()
