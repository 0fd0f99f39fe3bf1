"""Deals, customers and all that belongs to them."""
