"""The read-only interface for programs: figures and deals as it stood, with personal tokens."""
