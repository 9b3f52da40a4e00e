"""Add and tidy attributes."""
