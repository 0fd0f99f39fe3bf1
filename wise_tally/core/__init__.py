"""The rules of computation: standard library and numpy only, no clock, no files, no interface."""
