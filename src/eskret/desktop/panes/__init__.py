"""Map and table about the step in hand, and what is done in them by hand."""
