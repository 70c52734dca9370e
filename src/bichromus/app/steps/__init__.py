"""The steps of the work, one folder each; none knows another."""
