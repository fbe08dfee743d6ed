"""The job's rules and computation: pure functions on frozen values, no I/O, no clock, no interface."""
