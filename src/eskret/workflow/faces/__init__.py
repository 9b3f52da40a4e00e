"""A workflow and its runs as people read them: ledger, report, script, handbook, catalogue, checkup."""
