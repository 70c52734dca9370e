"""Nobody speaks but the program: what C libraries print about the bytes of a file, or what an array
library finds odd in its numbers, is nothing that a person at a terminal or a script can use.
"""

from __future__ import annotations

import faulthandler
import io
import os
import sys
import warnings


def hush_libraries() -> None:
    """Give the program a standard error of its own, and the libraries none: they write to the
    descriptor 2 itself. A crash of the interpreter is still told.
    """
    warnings.simplefilter("ignore")
    try:
        own = os.dup(2)
        silence = os.open(os.devnull, os.O_WRONLY)
        os.dup2(silence, 2)
        os.close(silence)
    except OSError:
        return  # there is no standard error: nothing is heard anyway
    sys.stderr = io.TextIOWrapper(
        os.fdopen(own, "wb", buffering=0), "utf-8", "backslashreplace", write_through=True
    )
    faulthandler.enable(own)
