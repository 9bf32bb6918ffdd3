"""The demo collection of the invented Quernstow Carillon Trust."""
