"""What several operations share. ``row_wise`` and ``reshaping`` are shapes of operations, the others answer one question each."""
