"""Scenario files, played: in simulated time without a network, or by telephones in software that
call a service through a carrier."""
