"""Everything that is another process: the worker that computes for a window and its client, what a Python pane has at hand, and the run
of a script to see what it builds. ``jobs`` are what a worker can be asked."""
