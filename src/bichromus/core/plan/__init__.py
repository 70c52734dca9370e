"""What to shoot, when, how long, and how it fits: the almanac, exposure, framing, optics,
allocation.
"""
