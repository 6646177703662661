"""What holds the site against before: inventories, the tree expected, the proof, the price of going back."""
