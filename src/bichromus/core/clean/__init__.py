"""Gradients and continuum taken off."""
