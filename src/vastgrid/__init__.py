"""Vast Grid: terrain conversion for survey technicians, with the proof of what each conversion did."""

__version__ = "0.1.0"
