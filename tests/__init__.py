"""Everything that is tested. No test passes or fails by how fast the machine is just then."""

from hypothesis import HealthCheck, settings

settings.register_profile("without a clock", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("without a clock")
