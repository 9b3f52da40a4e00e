"""A workflow handed over: packed with all that it needs into one file, unpacked elsewhere."""
