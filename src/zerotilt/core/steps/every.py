"""Every remedy, once, in the order in which forms and documents name them."""

from __future__ import annotations

from zerotilt.core.steps import leaving_out, penalty, reductions, repair, resampling, reweighing
from zerotilt.core.steps.remedy import Remedy

REMEDIES: dict[str, Remedy] = {
    one.REMEDY.name: one.REMEDY for one in (leaving_out, reweighing, resampling, repair, penalty, reductions)
}
