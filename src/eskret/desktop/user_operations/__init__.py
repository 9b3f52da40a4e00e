"""The analyst's own operations: their code, and whether it is trusted."""
