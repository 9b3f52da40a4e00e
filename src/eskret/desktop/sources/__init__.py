"""What the project folder offers."""
