"""What routing comes to where no route is taken, and how sure it has to be of one."""

from __future__ import annotations

FALLBACK = "fallback"
DID_YOU_MEAN = "did-you-mean"

THRESHOLD, HEARD_THRESHOLD = 0.63, 0.57
"""A route taken is at least this likely to be the right one; of words that may have been heard
wrong less is asked."""

ASKED = 0.3
"""Below the threshold, routes at least this likely are asked about: did you mean …?"""
