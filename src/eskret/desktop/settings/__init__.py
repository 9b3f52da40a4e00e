"""The form of the chosen step."""
