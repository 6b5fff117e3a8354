"""What others than Larkmere Waterways wrote: the contracts of the river board and of the notice board, and the river board's service."""
