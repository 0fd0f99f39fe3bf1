"""Accounts, contacts, leads, activities, notes."""
