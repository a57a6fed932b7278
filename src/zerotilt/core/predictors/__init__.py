"""Predictors: anything that gives a score for rows. One interface for every kind."""

from zerotilt.core.predictors.asked import Asked
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.protocol import Predictor

__all__ = ["Asked", "Frame", "Predictor"]
