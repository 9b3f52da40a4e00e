"""Tables: keys and groups, matching and differences, types and values, without anything that is drawn."""
