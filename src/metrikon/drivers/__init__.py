"""Drivers: the loops that join the pure core and the ports; used by steps and by the command line alike."""
