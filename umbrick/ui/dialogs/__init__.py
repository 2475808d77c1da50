"""Dialogs: saving, mending all alike, and the sheet of keys."""
