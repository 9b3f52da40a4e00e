"""Full views and what pops up."""
