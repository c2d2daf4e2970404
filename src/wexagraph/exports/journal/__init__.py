"""The journal: the machine's own record of what an export has done, so that a run can be repeated or resumed."""
