"""Channels: open stacks, extract lines, look at each channel alone."""

from .step import ChannelsStep

STEP = ChannelsStep

__all__ = ["STEP"]
