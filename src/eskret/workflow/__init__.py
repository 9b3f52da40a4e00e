"""The workflow: document, references, rehearsal, engine, deliveries, report, script."""
