"""Audit, outbox, backups."""
