"""Python in the window: the console, scripts that build workflows, and the text they are shown in."""
