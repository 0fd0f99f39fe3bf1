"""Stages and their moments."""
