"""The measuring, the arithmetic and the files. No window, no global state, no printing, no
clock.
"""
