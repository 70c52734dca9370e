"""Stars of one frame found again in another."""
