"""Estimators to ONNX, at the edge: what the general converters lack is registered with them here."""

from zerotilt.convert.histogram import register

__all__ = ["register"]
