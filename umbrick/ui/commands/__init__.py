"""The commands: what they are, and the table that menus, keys and the sheet of keys are made from."""
