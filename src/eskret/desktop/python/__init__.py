"""Python in the window: coloured text, the workflow as a script, a pane to try things in."""
