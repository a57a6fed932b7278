"""What the fork server loads before the first job: everything imported, every kernel compiled, so that a job starts at once.

Parts of SciPy that take long to load are imported where they are used; here, once for all jobs.
"""

import scipy.cluster.hierarchy
import scipy.optimize
import scipy.spatial
import scipy.special
import scipy.stats

from zerotilt.core.warm import warm
from zerotilt.readers import jobs

__all__ = ["jobs", "scipy"]

warm()
