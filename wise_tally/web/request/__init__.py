"""One request: its limits, sign-in, session, permissions and refusals."""
