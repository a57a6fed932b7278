"""Zero Tilt: explain a model, compare groups, write the audit."""

__version__ = "0.1.0"
