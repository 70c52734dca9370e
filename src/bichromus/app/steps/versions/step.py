"""The Versions step: keep pictures, hang them side by side, choose with a clear eye."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Final

from PyQt6.QtWidgets import QFileDialog

from ....core.model.errors import BichromusError
from ....core.model.recipe import Recipe
from ....workspace.project.state import VersionState
from ....workspace.versions.compare import Comparison, changed_channels
from ....workspace.versions.variation import parts_of
from ...canvas import Canvas
from ...canvas.picture_view import PictureView
from ...command import Command
from ...shell.route import StepState
from ...widgets.text import snr_text
from ..step import Step, StepContext
from .folds import PairFold, VersionFold, WallFold
from .pair import WAYS, Way
from .stage import EMPTY, PAIR, WALL, VersionsStage
from .words import hung

_ORDER: Final = "order of versions"  # among the settings of the person


class VersionsStep(Step):
    """What hangs is what is saved; all gestures are commands like any other."""

    id = "versions"
    title = "Versions"
    tip = "Keep versions of the picture, and look at them side by side."
    place = 60
    topic = "blend"

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.current = ""
        self.stage: VersionsStage = VersionsStage()
        self.first = self.stage.wall.room
        self._add_folds()
        self._wire(context)

    def _add_folds(self) -> None:
        self.hanging = WallFold()
        self.version, self.pair_fold = VersionFold(), PairFold()
        for fold in (self.hanging, self.pair_fold, self.version):
            self.inspector.add(fold)

    def _wire(self, context: StepContext) -> None:
        versions, wall, pair = self.session.versions, self.stage.wall, self.stage.pair
        bridge, fold = context.bridge, self.version
        for changed in (bridge.state, bridge.channels, bridge.recipe):
            changed.connect(self._show)
        bridge.version_kept.connect(self._kept)
        bridge.version_paired.connect(self._pair)
        bridge.version_wall.connect(wall.put)
        bridge.version_rendered.connect(pair.show_answer)
        bridge.versions_ready.connect(pair.ask)
        self.stage.keep_wanted.connect(versions.keep)
        self.stage.bring_wanted.connect(self.choose_pictures)
        self.hanging.kept.connect(versions.keep)
        self.hanging.brought.connect(self.choose_pictures)
        self.hanging.ordered.connect(self._set_order)
        self.hanging.left_out.connect(versions.keep_without)
        wall.wanted.connect(versions.request_wall)
        wall.looked_at.connect(self._look_at)
        wall.picked.connect(self._show_picks)
        wall.opened.connect(self.open_picks)
        wall.favourite.connect(versions.toggle_favourite)
        wall.removed.connect(versions.delete)
        pair.wanted.connect(versions.request_view)
        fold.renamed.connect(lambda to: versions.rename(self.current, to))
        fold.noted.connect(self._note)
        fold.continued.connect(self.continue_with)
        fold.made_anew.connect(lambda: versions.keep_with_todays_channels(self.current))
        fold.favourite.connect(lambda: versions.toggle_favourite(self.current))
        fold.removed.connect(lambda: versions.delete(self.current))
        self.pair_fold.way_chosen.connect(pair.set_way)
        self.pair_fold.opened.connect(self.open_picks)
        self.pair_fold.closed.connect(self.back_to_wall)

    @property
    def canvas(self) -> Canvas | PictureView:  # type: ignore[override]
        return self.stage.pair

    def commands(self) -> list[Command]:
        def ready() -> bool:
            return self.session.blend.snapshot.recipe is not None

        active, keep = self.when_active, self.session.versions.keep
        return [
            Command("keep-version", "Keep this picture", "Ctrl+D", keep, "version hang", ready),
            Command(
                "compare", "Compare the picked versions", "Q", active(self.open_picks), "version"
            ),
            Command(
                "other", "The other of two versions", "0", active(self.stage.pair.turn), "compare"
            ),
            Command(
                "way",
                "Compare in the next way",
                "Shift+Q",
                active(self.next_way),
                "wipe difference",
            ),
            Command(
                "bring-in",
                "Bring in a picture or a recipe",
                "",
                self.here(self.choose_pictures),
                "versions elsewhere last year partner",
            ),
            Command("wall", "Back to the wall", "Backspace", active(self.back_to_wall), "versions"),
        ]

    # --- gestures ---

    def open_picks(self) -> None:
        """The picked versions, large."""
        picked = self._picked()
        if not picked:
            return
        # both as the first is presented, so that nothing moves under the eye
        first = next((v for v in picked if v.laid is None), picked[0])
        recipe = self._recipe(first)
        finish = recipe.settings.finish if recipe is not None else None
        width, height = first.size
        self.stage.setCurrentIndex(PAIR)
        self.stage.pair.show_pair(tuple(v.name for v in picked), (height, width), finish)
        self.stage.pair.setFocus()
        self.session.versions.prepare(picked)
        self._show_picks()

    def choose_pictures(self) -> None:
        """Choose pictures and recipes from elsewhere, and hang them."""
        kinds = "Pictures and recipes (*.tif *.tiff *.png *.jpg *.jpeg *.fits *.fit *.fts *.json)"
        found, _ = QFileDialog.getOpenFileNames(
            self.context.window, "Bring in pictures", str(Path.home()), kinds
        )
        if found:
            self.session.versions.bring([Path(f) for f in found])

    def take_files(self, files: Sequence[Path]) -> bool:
        """Dropped pictures and recipes hang here, once there is a grid to lay them on."""
        if self.session.blend.snapshot.recipe is None:
            return False
        self.session.versions.bring(files)
        return True

    def _set_order(self, order: str) -> None:
        self.context.settings.set(_ORDER, order)
        self._show()

    def _pair(self, one: str, two: str) -> None:
        """Look at two that were just kept."""
        self.context.actions.go(self.id)
        self._show()
        self.stage.wall.set_picks([one, two])
        self.open_picks()

    def back_to_wall(self) -> None:
        """All versions."""
        if self.stage.currentIndex() == PAIR:
            self.stage.setCurrentIndex(WALL)
            self.stage.wall.room.setFocus()
            self._show_picks()

    def next_way(self) -> None:
        """Compare in the next way."""
        ways = list(WAYS)
        self.set_way(ways[(ways.index(self.stage.pair.way) + 1) % len(ways)])

    def set_way(self, way: Way) -> None:
        """Compare in another way."""
        self.stage.pair.set_way(way)
        self._show_picks()

    def continue_with(self) -> None:
        """The recipe of the version under the frame becomes the current one."""
        self.session.versions.continue_with(self.current)
        self.session.context.message(f"Blend goes on with {self.current}. Ctrl+Z takes it back.")

    def _note(self, text: str) -> None:
        version = self.session.state.version(self.current)
        if version is not None and version.note != text.strip():
            self.session.versions.set_note(self.current, text)

    def _kept(self, name: str) -> None:
        self._show()
        self.stage.wall.look_at(name)
        self.session.context.message(f"Kept: {name}. It hangs in Versions (6).")

    def enter(self) -> None:
        super().enter()
        self._show()

    # --- what is shown ---

    def _show(self) -> None:
        if not self.active:  # while a control moves elsewhere nothing of this is looked at
            return
        state = self.session.state
        ready = self.session.blend.snapshot.recipe is not None
        self.stage.show_ready(ready)
        versions = state.versions
        self.hanging.setVisible(bool(versions))
        order = str(self.context.settings.get(_ORDER, "kept"))
        channels = self.session.blend.snapshot.channels
        parts = parts_of(channels, state.preparation) if ready else []
        self.hanging.show_wall(ready, order, parts, self.session.versions.kept_bytes)
        self.pair_fold.setVisible(bool(versions))
        recipes = {v.recipe: r for v in versions if (r := self._recipe(v)) is not None}
        stale = {v.name: self._changed(v) for v in versions}
        self.stage.wall.show_versions(hung(versions, recipes, stale, order))
        gone = [n for n in self.stage.pair.names if state.version(n) is None]
        if not versions:
            self.stage.setCurrentIndex(EMPTY)
        elif self.stage.currentIndex() == EMPTY or gone:
            self.stage.setCurrentIndex(WALL)
        self._look_at(self.current)
        self._show_picks()

    def _look_at(self, name: str) -> None:
        version = self.session.state.version(name)
        self.current = name if version is not None else ""
        self.version.setVisible(version is not None)
        if version is not None:
            held = self.session.versions.held(version)
            self.version.show_version(version, self._changed(version), held)

    def _show_picks(self) -> None:
        picked = self._picked()
        large = self.stage.currentIndex() == PAIR
        found = self._compared(picked) if len(picked) > 1 else None
        self.pair_fold.show_picks([v.name for v in picked], found, large)
        self.pair_fold.way.setCurrentIndex(list(WAYS).index(self.stage.pair.way))

    def _picked(self) -> list[VersionState]:
        found = [self.session.state.version(n) for n in self.stage.wall.picks]
        return [v for v in found if v is not None]

    def _compared(self, picked: list[VersionState]) -> Comparison | None:
        try:
            return self.session.versions.compare(picked[0], picked[1])
        except BichromusError as error:
            self.session.context.report([error])
            return None

    def _changed(self, version: VersionState) -> list[str]:
        return changed_channels(version, self.session.blend.snapshot.channels)

    def _recipe(self, version: VersionState) -> Recipe | None:
        """Its recipe; None where it has none, or it cannot be read."""
        if version.laid is not None:
            return None
        try:
            return self.session.versions.files.recipe(version.recipe)
        except BichromusError:
            return None

    def figure(self, channel: str) -> tuple[str, str]:
        version = self.session.state.version(self.current)
        kept = version.channels.get(channel) if version is not None else None
        if kept is None or kept.snr is None:
            return "", ""
        return "SNR then", snr_text(kept.snr)

    def status(self) -> tuple[StepState, int]:
        versions = self.session.state.versions
        return ("empty" if not versions else "half" if len(versions) < 2 else "full"), 0
