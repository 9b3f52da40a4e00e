"""The arithmetic of the ledger: rows used and set aside, control totals, and what is carried through a step."""
