"""Frozen values that the rooms of the core exchange."""
