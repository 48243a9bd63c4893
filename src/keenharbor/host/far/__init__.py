"""A site's machine that is reached by SSH: nothing is installed there."""
