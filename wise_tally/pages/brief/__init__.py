"""The brief: what the figures say first, all findings, briefs kept, the brief by mail."""
