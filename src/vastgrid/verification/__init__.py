"""The program checked on the user's machine: cases with a source, an expected figure and a tolerance, and the book made of them."""
