"""What a statement may do beside reading, as far as the catalogue tells."""
