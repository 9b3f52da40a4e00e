"""Files in and out: one module a family of formats; ``sources`` is the door."""
