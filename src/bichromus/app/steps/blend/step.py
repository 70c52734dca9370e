"""The Blend step: palette sheet under the picture; mix, balance, stretch and colour beside it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from ....core.blend import available_mappings
from ....core.blend.level import levels_at
from ....core.model.recipe import Recipe
from ...command import Command
from ...shell.route import StepState
from ...widgets.later import Later
from ...widgets.sheet import Item, Sheet
from ..step import Step, StepContext
from .balance import BalanceSection
from .finish import FinishSection
from .luminance import LuminanceSection
from .masks import MasksSection
from .mix import MixSection
from .section import Section, Sections
from .stage_frame import StageFrame
from .stars import StarsSection
from .tone import ColourSection, FullToneSection

_NUDGE = 0.02
_WORDS = "blend mapping"


class BlendStep(Step):
    """Everything here changes the recipe; nothing touches the channels."""

    id = "blend"
    title = "Blend"
    tip = "Mix the channels into a picture, and weigh colour against clean."
    place = 50

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.sheet = Sheet("palettes")
        self.sheet.chosen.connect(self.session.blend.set_mapping)
        self.bottom_panel = self.sheet
        self.frame = StageFrame(context)
        self.mix = MixSection(context, self.frame)
        self.balance = BalanceSection(context)
        self.stars = StarsSection(context)
        self.luminance = LuminanceSection(context)
        self.masks = MasksSection(context)
        self.finishing = FinishSection(context, self.frame)
        self.sections = Sections(
            self.inspector,
            context.bridge,
            [
                self.mix,
                self.balance,
                self.stars,
                self.luminance,
                FullToneSection(context),
                ColourSection(context),
                self.masks,
                self.finishing,
            ],
        )
        self.mix.set_open(True)
        self.balance.set_open(True)
        self.mix.luminance_asked.connect(lambda: self.sections.open(self.luminance))
        self._later = Later(self, self._show)
        context.bridge.recipe.connect(self._later.ask)
        context.bridge.judged.connect(self._later.ask)
        context.bridge.layers.connect(self._later.ask)
        context.bridge.thumbnail.connect(self.sheet.put)
        self._show()

    @property
    def recipe(self) -> Recipe | None:
        """The recipe as it was made last."""
        return self.session.blend.snapshot.recipe

    def nudge(self, step: float) -> None:
        """Move the balance by a step."""
        self.balance.dial.nudge(step)

    def step_palette(self, step: int) -> None:
        """The next or the previous palette of the sheet."""
        ids = [m.id for m in available_mappings(self.session.channels.snapshot.names)]
        here = self.recipe.settings.mapping if self.recipe else ""
        if ids:
            self.session.blend.set_mapping(
                ids[(ids.index(here) + step) % len(ids)] if here in ids else ids[0]
            )

    def enter(self) -> None:
        super().enter()
        self._show()
        self.context.canvas.set_alone(None)

    def leave(self) -> None:
        super().leave()
        self.frame.leave()
        self.masks.stop()
        self.balance.leave()
        self.mix.leave()

    def select(self, channel: str) -> None:
        if self.active:
            self.context.canvas.set_alone(None)

    def _show(self) -> None:
        names = self.session.channels.snapshot.names
        mapping = self.recipe.settings.mapping if self.recipe else ""
        items = [Item(m.id, m.title, "", None, m.words) for m in available_mappings(names)]
        self.sheet.set_items(items, mapping)
        self.sections.show_recipe()

    def figure(self, channel: str) -> tuple[str, str]:
        recipe = self.recipe
        if recipe is None or channel not in recipe.settings.used():
            return "in the blend", "no"
        if channel not in recipe.settings.mixed():
            return "in the blend", "on top" if channel in recipe.settings.on_top() else "light"
        levels = levels_at(recipe)
        return "level", f"{100 * levels.lift(channel):.0f} %"

    def status(self) -> tuple[StepState, int]:
        return ("full" if self.recipe is not None else "empty"), 0

    def _crop(self) -> None:
        self.sections.open(self.finishing)
        self.finishing.toggle_crop()

    def _turn(self) -> None:
        self.finishing.turn_by(90)

    def _draw(self, add: bool) -> None:
        now = self.masks.draw_add if add else self.masks.draw_take
        self.masks.set_drawing(not now.isChecked(), add)

    def _opens(self, section: Section) -> Command:
        """A way to a section by its name."""
        title = f"{section.title}: open this section of Blend"
        return Command(
            f"open-{section.title.lower()}",
            title,
            "",
            self.here(self.sections.open, section),
            f"blend {section.title.lower()}",
        )

    def commands(self) -> list[Command]:
        def ready() -> bool:
            return self.recipe is not None

        def blend(
            id_: str, title: str, key: str, run: Callable[[], object], words: str = "blend"
        ) -> Command:
            return Command(id_, title, key, lambda: run() if ready() else None, words, ready)

        def toggle_auto() -> None:
            self.balance.set_auto(not self.session.state.blend.balance_auto)

        return [
            blend("cleaner", "Balance toward clean", "]", partial(self.nudge, _NUDGE)),
            blend("colour", "Balance toward colour", "[", partial(self.nudge, -_NUDGE)),
            blend("auto", "Balance automatic, or by hand", "A", toggle_auto),
            blend("crop", "Crop, or leave the frame", "Shift+F", self._crop, "blend finish"),
            blend("flip", "Swap left and right", "", self.finishing.flip_across, "blend finish"),
            blend(
                "turn", "Turn a quarter", "", partial(self.finishing.turn_by, 90), "blend finish"
            ),
            blend(
                "mask-draw",
                "Draw into the mask",
                "Shift+D",
                partial(self._draw, True),
                "blend masks",
            ),
            blend(
                "mask-rub", "Rub the mask out", "Shift+E", partial(self._draw, False), "blend masks"
            ),
            *(self._opens(section) for section in self.sections.all),
            blend("next-palette", "Next palette", "P", partial(self.step_palette, 1), _WORDS),
            blend(
                "last-palette",
                "Previous palette",
                "Shift+P",
                partial(self.step_palette, -1),
                _WORDS,
            ),
        ]
