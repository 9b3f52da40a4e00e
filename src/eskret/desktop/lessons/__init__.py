"""Lessons: what they are, what is to be done next in one, and a strip that says so and points at it."""
