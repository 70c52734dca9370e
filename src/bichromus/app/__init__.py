"""The window. Only here is Qt known."""
