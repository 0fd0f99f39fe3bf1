"""Ways in besides the pages: command lines and the read-only interface for programs."""
