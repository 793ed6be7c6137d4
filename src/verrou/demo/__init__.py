"""The demo: the three computers of the Cap Fauvel seabird observatory, made up, each with flaws worth finding."""
