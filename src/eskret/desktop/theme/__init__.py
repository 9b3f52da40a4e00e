"""Colours, fonts, style sheet, icons."""
