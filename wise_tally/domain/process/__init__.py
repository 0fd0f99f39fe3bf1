"""Sales processes: categories, stages and their dated rules, and what happens at a stage."""
