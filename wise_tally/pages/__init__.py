"""The six places of the application: filters in, core asked, page out."""
