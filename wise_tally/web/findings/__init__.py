"""Findings as pages, mails and meetings ask for them and word them."""
