"""What all pages share."""
