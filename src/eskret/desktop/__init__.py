"""The window. PySide6 is used only here."""
