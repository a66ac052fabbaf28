"""A plug-in of Vast Grid."""
