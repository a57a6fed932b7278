"""What the fork server loads before the first job: everything imported, every kernel compiled, so that a job starts at once.

Parts of SciPy that take long to load are imported where they are used; here, once for all jobs.
"""

from zerotilt import lean

lean.leave_out()

import scipy.cluster.hierarchy  # noqa: E402
import scipy.spatial  # noqa: E402
import scipy.special  # noqa: E402

from zerotilt.core.warm import warm  # noqa: E402
from zerotilt.readers import jobs, walls  # noqa: E402

__all__ = ["jobs", "scipy", "walls"]

warm()
