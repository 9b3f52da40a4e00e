"""Facts and numbers: layers, coordinate systems, expressions, names, accounts. No files, no interface."""
