"""Runs of earlier and their comparison, and the features of runs where a window can look at them."""
