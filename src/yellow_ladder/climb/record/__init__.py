"""What is written down of a climb: the frozen plan, the journal, how far it is, and the list of all climbs."""
