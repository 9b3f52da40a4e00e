"""The heart of the window: steps with their figures and threads."""
