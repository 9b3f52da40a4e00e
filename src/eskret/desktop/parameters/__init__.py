"""Parameters in the window: their values asked for, and themselves edited."""
