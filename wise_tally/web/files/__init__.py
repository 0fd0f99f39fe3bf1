"""Tables as files: those that go out, and those that are uploaded."""
