"""The demo: an invented sound with its shellfish leases, made by a seeded script, and workflows that teach."""
