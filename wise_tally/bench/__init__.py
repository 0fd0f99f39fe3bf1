"""Speed of core, import and pages on invented deals of three sizes."""
