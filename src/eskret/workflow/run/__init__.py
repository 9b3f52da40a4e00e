"""What happens to a workflow: rehearsed, run step by step, in rounds, as a step of another, whenever something changes."""
