"""The model runtime, with everything that it would collect turned off; imported from here alone."""

from __future__ import annotations

import onnxruntime

# the environment says so, too, but somebody may have imported the runtime before us
onnxruntime.disable_telemetry_events()

__all__ = ["onnxruntime"]
