"""Form fields, and the forms that several pages share."""
