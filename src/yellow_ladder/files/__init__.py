"""Files and archives: manifests, safe unpacking, writing archives, exchanging folders."""
