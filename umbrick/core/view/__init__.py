"""The arithmetic of looking at a recording: spans, columns, ticks and curves, without any painting."""
