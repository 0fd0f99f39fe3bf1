"""What is stored and what people do to it: models and actions."""
