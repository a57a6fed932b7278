"""Players: what a case is divided into where it is explained."""

from zerotilt.core.players.columns import Columns
from zerotilt.core.players.protocol import EVALUATIONS_AT_ONCE, Divide, Output, Players
from zerotilt.core.predictors import Asked, Frame


def players_of(output: Output, cases: Frame, others: Frame) -> Players:
    """The players of what is asked: as its predictor divides a row, columns where it says nothing of it."""
    divide = getattr(output.predictor, "divide", None) if isinstance(output, Asked) else None
    return (divide or Columns)(output, cases, others)


__all__ = ["EVALUATIONS_AT_ONCE", "Columns", "Divide", "Output", "Players", "players_of"]
