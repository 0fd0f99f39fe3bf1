"""The book in memory: rows become core records, kept by book number."""
