"""The work of Rumbrel from plan to report: convert, deliver, make a disc, take in a disc.

Commands and the web turn options into the input of these and their events into lines or rows.
"""
