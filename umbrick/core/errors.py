"""The errors a person may meet: each message is a sentence in plain words that names what to do next."""

from __future__ import annotations


class UmbrickError(Exception):
    """Something that was asked for cannot be done; the message says why, for a person.

    Parameters
    ----------
    message : str
        What happened, in one sentence.
    hint : str, optional
        What is safe, or what to do next.
    """

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint

    def __str__(self) -> str:
        return f"{self.message} {self.hint}".strip()


class FileError(UmbrickError):
    """A file cannot be read or written."""


class DamagedFileError(FileError):
    """Part of a file cannot be read as sound; the rest can."""


class ParameterError(UmbrickError):
    """A parameter has a value outside what its method takes."""


class CancelledError(UmbrickError):
    """The person stopped the work."""

    def __init__(self) -> None:
        super().__init__("Stopped.")
