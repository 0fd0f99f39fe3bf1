"""The demo workspace of an invented firm, made by code: the same for the same day."""
