"""Schemas and statements that nobody wrote: drawn at random, and sent through every command."""
