"""Wise Tally: forecasts, conversion, time in stage and target attainment that open their working."""
