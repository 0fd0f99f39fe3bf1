"""One page for every list of Setup, described by registers."""
