"""Published datasets: what would change, sending, and services."""
