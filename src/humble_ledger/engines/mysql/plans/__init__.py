"""The plans of both members in all the forms they write them, read into the neutral model."""
