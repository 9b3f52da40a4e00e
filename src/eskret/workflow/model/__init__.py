"""The workflow as a document: parameters, steps, the map, styles; its one TOML form, and how it is edited."""
