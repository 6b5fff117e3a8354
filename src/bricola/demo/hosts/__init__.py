"""The simulated terminal hosts of the demo: a 3270 ledger and a 5250 berth desk. `python -m bricola.demo.hosts` runs one."""
