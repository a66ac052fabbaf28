"""Recipes: the steps of a job as a text that can be read, kept and run on other files."""
