"""The course: treatments laid over a whole recording, or long spans of it, at any length."""
