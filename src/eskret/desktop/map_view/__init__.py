"""Looking at features in place."""
