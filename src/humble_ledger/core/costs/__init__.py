"""What reading rows costs: the data, and the contract that an engine's formulas keep."""
