"""What leaves a run: staged, committed as one, recorded, taken back, sent; and runs that were cut short."""
