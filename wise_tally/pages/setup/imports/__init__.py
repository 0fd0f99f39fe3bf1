"""Other tables brought in, previewed and undone."""
