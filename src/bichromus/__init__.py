"""Bichromus: from line and colour stacks of the deep sky to one honest colour picture."""

__version__ = "0.1.0"
