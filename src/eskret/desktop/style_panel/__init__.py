"""How the map is drawn: the pane where it is said."""
