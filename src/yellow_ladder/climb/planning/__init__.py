"""Everything before the window: looking ahead, making every rung ready beside the site, ways back."""
