"""Frames of one channel put together, each by what it is worth."""
