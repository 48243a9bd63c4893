"""Addresses of Tansy 2. Deprecated; goes with 4.0."""

OLD = {"/seeds.html": "/varieties", "/dates.html": "/calendar"}
