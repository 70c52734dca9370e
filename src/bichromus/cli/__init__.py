"""The command line: one thin module a verb."""
