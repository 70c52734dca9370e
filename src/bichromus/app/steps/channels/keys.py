"""What can be done in the Channels step, by key and by the palette."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from ....workspace.channels import commands
from ...command import Command

if TYPE_CHECKING:
    from .step import ChannelsStep


def channel_commands(step: ChannelsStep) -> list[Command]:
    """Every command of the step, in the order of the list of keys."""

    def here(id_: str, title: str, key: str, run: Callable[[], object], words: str) -> Command:
        return Command(id_, title, key, step.when_active(run), f"channels {words}".strip())

    def split_all() -> None:
        step.session.do(commands.set_split(step.session.channels.snapshot.names, True))

    chain = step.chain
    return [
        Command("next-channel", "Next channel", "C", partial(step.next_origin, 1), "channels"),
        Command(
            "last-channel",
            "Previous channel",
            "Shift+C",
            partial(step.next_origin, -1),
            "channels",
        ),
        here(
            "switch-back", "Switch to the last channel and back", "E", step.switch_back, "compare"
        ),
        here(
            "crops",
            "Five crops along the diagonals, or the whole",
            "T",
            step.context.canvas.toggle_crops,
            "corners tilt star width",
        ),
        here(
            "next-link",
            "Next step of the channel's chain",
            "J",
            partial(chain.step, 1),
            "align gradient pool stars",
        ),
        here("last-link", "Previous step of the chain", "Shift+J", partial(chain.step, -1), ""),
        here(
            "flip-link",
            "Switch this step of the chain on or off",
            "I",
            chain.flip,
            "gradient pool continuum stars",
        ),
        here("next-look", "Next view of this step", "V", step.next_view, "mask model"),
        here(
            "cores",
            "Mark full cores and halos, or not",
            "M",
            step.figures.marks.click,
            "saturated blown",
        ),
        here(
            "misses",
            "Show how stars miss after alignment, or not",
            "",
            step.show_misses,
            "residual",
        ),
        here(
            "draw-sky",
            "Draw what must not count as sky, or stop",
            "",
            step.draw_sky,
            "gradient mask",
        ),
        Command(
            "split-all",
            "Split the stars off all channels",
            "",
            split_all,
            "channels starless layer",
        ),
        here(
            "measured-leaks",
            "Use the measured leaks",
            "",
            step.editing.use_measured,
            "extract response",
        ),
        Command(
            "compute-again",
            "Delete the cache and compute every channel again",
            "",
            step.session.channels.compute_again,
            "channels",
        ),
        Command(
            "response",
            "Load or drop a sensor response",
            "",
            step.editing.choose_response,
            "channels extract",
        ),
    ]
