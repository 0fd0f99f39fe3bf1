"""The brief: the findings that matter most, all findings, saved briefs, the brief by mail."""
