"""Bring files in."""
