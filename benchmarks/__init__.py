"""Rapid Mender against its peers, on one machine in one run. `python -m benchmarks --help` says how."""
