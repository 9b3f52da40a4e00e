"""Published datasets, reached over HTTP."""
