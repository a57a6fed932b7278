"""What the fork server loads before the first job: everything imported, every kernel compiled, so that a job starts at once."""

from zerotilt.core.warm import warm
from zerotilt.readers import jobs

__all__ = ["jobs"]

warm()
