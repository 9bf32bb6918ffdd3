"""The rules and the computation of the job. Imports no Django, no database and no HTTP."""
