"""The panels around the strips: docket, treatment, header and status line."""
