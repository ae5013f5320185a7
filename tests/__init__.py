"""The tests, in the same rooms as the package. Run all of them with script/test."""

import logging

import structlog

# Tests provoke failures on purpose; what they log would only hide the results.
structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.CRITICAL))
logging.getLogger("asyncio").setLevel(logging.ERROR)
