"""The site under care: site file, state folder, lock. A module for each part of the site file's records."""
