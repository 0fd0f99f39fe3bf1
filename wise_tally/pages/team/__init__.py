"""Team: dashboards, reports, meetings."""
