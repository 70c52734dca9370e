"""From measures to one sentence with its figures. Never a guess: silent when there is nothing to
say.
"""

from typing import TYPE_CHECKING

from ..model.lazy import lazily

if TYPE_CHECKING:
    from .balance import Need, advise_blend, hours_for_full_colour
    from .base import Advice
    from .channels import Standing, advise_channels

__all__ = ["Advice", "Need", "Standing", "advise_blend", "advise_channels", "hours_for_full_colour"]

__getattr__ = lazily(
    __name__,
    {
        "Advice": ".base",
        **dict.fromkeys(("Need", "advise_blend", "hours_for_full_colour"), ".balance"),
        **dict.fromkeys(("Standing", "advise_channels"), ".channels"),
    },
)
