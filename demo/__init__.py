"""The demo collection of the invented Ostwick Carillon Trust."""
