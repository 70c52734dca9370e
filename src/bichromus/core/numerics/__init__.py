"""Numeric tools that know nothing of channels."""
