"""A grid of texts to be edited like a sheet: copied, pasted, filled down, with what is wrong marked in its cell."""
