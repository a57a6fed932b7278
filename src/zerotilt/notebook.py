"""What a notebook needs: the engine over a frame and a model, and the way to a running Zero Tilt and back.

>>> from zerotilt.notebook import Study, open_audit, publish
>>> study = Study(frame, "model.onnx", outcome="claim_valid", event="yes")  # doctest: +SKIP
>>> study.drivers().reading  # doctest: +SKIP
"""

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.link import OpenAudit, Published, open_audit
from zerotilt.publish import publish
from zerotilt.study import SEED, Explained, Found, Plot, Study
from zerotilt.trained import Candidates, train

__all__ = [
    "SEED", "Candidates", "Explained", "Found", "OpenAudit", "Plot", "Published", "Recipe", "Study", "open_audit", "publish",
    "train",
]  # fmt: skip
