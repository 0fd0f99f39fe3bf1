"""How a figure is calculated: the panel of every figure, and figures kept to be compared."""
