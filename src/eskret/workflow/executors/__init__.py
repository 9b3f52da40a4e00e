"""Where a run happens: in this process, or in a worker process that speaks events."""
