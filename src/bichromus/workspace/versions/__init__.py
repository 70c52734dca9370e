"""Versions of the picture: kept, compared, continued."""
