"""The demo world, Larkmere Waterways: its definitions, its data, and a service that runs them."""
