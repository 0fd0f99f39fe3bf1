"""Saved briefs, findings put aside, bounds of findings, and the mail that brings a brief."""
