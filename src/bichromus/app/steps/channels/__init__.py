"""Channels: open stacks, extract lines, look at each channel alone."""

from .step import ChannelsStep

__all__ = ["ChannelsStep"]
