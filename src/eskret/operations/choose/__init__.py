"""Pick the right part."""
