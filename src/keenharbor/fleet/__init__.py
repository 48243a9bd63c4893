"""Many sites: what is done for one, for all of them side by side."""
