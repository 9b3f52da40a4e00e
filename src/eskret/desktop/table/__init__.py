"""Looking at features as rows."""
