"""A finished picture on its way out: its shape, and the strip of words under it."""
