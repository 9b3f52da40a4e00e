"""Prove and compare."""
