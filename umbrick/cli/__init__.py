"""The command line: reads what was asked for, calls the core, and writes down what came of it."""

from umbrick.cli.main import main

__all__ = ["main"]
