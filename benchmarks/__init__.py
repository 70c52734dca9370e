"""Speed and memory as ratios against a plain way of doing the same, so that they hold on any
machine.
"""
