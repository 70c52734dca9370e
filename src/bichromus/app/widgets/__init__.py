"""Small controls, each for one value, that know nothing of the project."""
