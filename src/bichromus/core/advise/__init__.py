"""From measures to one sentence with its figures. Never a guess: silent when there is nothing to
say.
"""

from .balance import Need, advise_blend, hours_for_full_colour
from .base import Advice
from .channels import Standing, advise_channels

__all__ = ["Advice", "Need", "Standing", "advise_blend", "advise_channels", "hours_for_full_colour"]
