"""What hostile bytes do to every reader: ``./run fuzz`` and ``./run fuzz --corpus DIR``."""
