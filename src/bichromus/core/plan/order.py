"""The order of subs in a night: block or cycle, what each costs, and what is left when clouds stop
it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class Overheads:
    """Seconds lost between subs. ``refocus_min`` minutes between focus runs; ``focus_offsets``
    spares one at a change of filter; ``hand_over_s`` goes to another target: slew, centre, focus.
    """

    download_s: float = 5.0
    dither_s: float = 20.0
    dither_every: int = 3
    refocus_s: float = 210.0
    refocus_min: float = 75.0
    filter_change_s: float = 10.0
    flip_s: float = 180.0
    focus_offsets: bool = True
    hand_over_s: float = 360.0

    def open_share(self, sub_s: float) -> float:
        """Share of the time with the shutter open in subs so long, focus runs reckoned in."""
        running = sub_s / (sub_s + self.of_a_sub_s)
        return running / (1 + self.refocus_s / 60 / max(self.refocus_min, 1e-9))

    @property
    def of_a_sub_s(self) -> float:
        """What a sub costs beside its exposure: its download, its share of dither and settling."""
        return self.download_s + self.dither_s / max(self.dither_every, 1)


@dataclass(frozen=True)
class Shot:
    """One sub in the order of the night: seconds from its beginning at which the shutter opens and
    closes.
    """

    channel: str
    start_s: float
    end_s: float


def sequence(subs: Mapping[str, int], every: int | None) -> list[str]:
    """Channels sub by sub: all of one after the other, or in turns of ``every`` in proportion to
    what is planned.
    """
    if every is None:
        return [name for name, count in subs.items() for _ in range(count)]
    left = dict(subs)
    out: list[str] = []
    while any(left.values()):
        for name in subs:
            turn = min(every, left[name])
            out += [name] * turn
            left[name] -= turn
    return out


def run_through(
    order: list[str],
    sub_s: Mapping[str, float],
    overheads: Overheads,
    flip_at_s: float | None = None,
) -> list[Shot]:
    """Every sub with its time, overheads between; the mount flips before the sub that would cross
    ``flip_at_s``.
    """
    clock = since_focus = 0.0
    flip = flip_at_s if flip_at_s is not None and flip_at_s > 0 else None
    shots: list[Shot] = []
    for number, channel in enumerate(order):
        changed = number > 0 and order[number - 1] != channel
        if changed:
            clock += overheads.filter_change_s
        if number and (
            (changed and not overheads.focus_offsets) or since_focus >= overheads.refocus_min * 60
        ):
            clock += overheads.refocus_s
            since_focus = 0.0
        if number and number % overheads.dither_every == 0:
            clock += overheads.dither_s
        if flip is not None and clock + sub_s[channel] > flip:
            clock = max(clock, flip) + overheads.flip_s
            flip = None
        shots.append(Shot(channel, clock, clock + sub_s[channel]))
        since_focus += sub_s[channel] + overheads.download_s
        clock += sub_s[channel] + overheads.download_s
    return shots


@dataclass(frozen=True)
class OrderCost:
    """Share of the time with the shutter open; mean share of its subs that the least complete
    channel has when clouds stop the night at any moment, all equally likely.
    """

    open_share: float
    completeness: float


def cost(
    subs: Mapping[str, int],
    sub_s: Mapping[str, float],
    every: int | None,
    overheads: Overheads | None = None,
) -> OrderCost:
    """What an order costs and risks; nothing planned costs nothing."""
    overheads = overheads or Overheads()
    planned = {n: c for n, c in subs.items() if c > 0}
    if not planned:
        return OrderCost(1.0, 1.0)
    shots = run_through(sequence(planned, every), sub_s, overheads)
    whole = shots[-1].end_s + overheads.download_s
    done = dict.fromkeys(planned, 0)
    gathered, before = 0.0, 0.0
    for shot in shots:
        gathered += min(done[n] / planned[n] for n in planned) * (shot.end_s - before)
        before = shot.end_s
        done[shot.channel] += 1
    return OrderCost(sum(s.end_s - s.start_s for s in shots) / whole, gathered / before)
