"""Find things by everyday words."""
