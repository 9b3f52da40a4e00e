"""Files of the user's and files of others: state kept whole, locks, hashes, and the transaction over all outputs of a run."""
