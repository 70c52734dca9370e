"""The parser of all verbs, without any of what they need."""

from __future__ import annotations

import argparse
from typing import NoReturn

from ..core.model.errors import InputError


class Parser(argparse.ArgumentParser):
    """Says what is wrong with a call in one line, as all other errors."""

    def error(self, message: str) -> NoReturn:
        """One sentence and exit code 2."""
        raise InputError("The call is not understood", why=message, do=f"See {self.prog} --help")


def add_common(parser: argparse.ArgumentParser) -> None:
    """Options that every verb has."""
    parser.add_argument("--json", action="store_true", help="print one JSON value and nothing else")
    parser.add_argument("--debug", action="store_true", help="show the whole traceback of an error")
