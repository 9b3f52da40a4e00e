"""Write results."""
