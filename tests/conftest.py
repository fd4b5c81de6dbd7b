"""What holds for all tests."""

import os

from hypothesis import settings

# Machines differ and are shared, so no property has a deadline; in CI the same examples are tried every time.
settings.register_profile("ours", deadline=None, derandomize=bool(os.environ.get("CI")))
settings.load_profile("ours")
