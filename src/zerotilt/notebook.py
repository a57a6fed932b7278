"""What a notebook needs: the engine over a frame and a model, and the way to a running Zero Tilt and back.

>>> from zerotilt.notebook import Study, open_audit, publish
>>> study = Study(frame, "model.onnx", outcome="claim_valid", event="yes")  # doctest: +SKIP
>>> study.drivers().reading  # doctest: +SKIP
"""

from zerotilt.link import OpenAudit, Published, open_audit
from zerotilt.publish import publish
from zerotilt.study import SEED, Explained, Found, Plot, Study

__all__ = ["SEED", "Explained", "Found", "OpenAudit", "Plot", "Published", "Study", "open_audit", "publish"]
