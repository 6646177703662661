"""The site under care: the site file, the state folder, and the lock that lets one run work at a time."""
