"""A sky, rigs and nights of known truth: for the demo, the tests, planning and rehearsal."""
