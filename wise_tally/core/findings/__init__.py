"""Findings: what the figures say that is worth acting on, each a rule with its figures, deals, money and one action."""
