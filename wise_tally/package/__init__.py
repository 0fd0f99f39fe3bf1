"""The exchange package: written, read and checked."""
