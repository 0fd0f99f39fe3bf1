"""Tallies, saved questions, and the dashboards made of them."""
