"""What the program demands of itself, tried on this machine: stacks as strangers make them, whose
truth is known, go through the chain, and each demand is set beside its figure.
"""

from .finding import Finding, worst_of_each
from .run import selftest

__all__ = ["Finding", "selftest", "worst_of_each"]
