"""What holds the site against before, and the price of going back. A module for each thing that is held against it."""
