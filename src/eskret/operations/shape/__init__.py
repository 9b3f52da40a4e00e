"""Change geometry."""
