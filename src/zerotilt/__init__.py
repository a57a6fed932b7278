"""Zero Tilt: explain a model, compare groups, write the audit."""

import os

# before anything imports the model runtime, in every process: what it would collect of a machine and its models is not
# collected, kept or sent
os.environ["ORT_DISABLE_TELEMETRY"] = "1"

__version__ = "0.1.0"
