"""What a step of the loop gives back: put together from entries and computations, not kept."""
