"""Forms: of a step's settings and of parameters, and the editors of their values."""
