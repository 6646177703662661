"""Drafts release sheets: what a vendor's archive, the environment in use and the site tell, guesses marked as such."""

from yellow_ladder.drafting.drafts import Drafts, draft_sheets
from yellow_ladder.drafting.parts import Draft

__all__ = ["Draft", "Drafts", "draft_sheets"]
