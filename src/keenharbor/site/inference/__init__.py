"""Working out how a site is put together from the site itself. Everything is read, nothing is run, and no system is
known by name: what is found is told with where it stands and how sure it is."""
