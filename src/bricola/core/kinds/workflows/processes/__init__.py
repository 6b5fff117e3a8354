"""Processes in WS-BPEL 2.0 (OASIS Standard, 11 April 2007), turned into workflows."""
