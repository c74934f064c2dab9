"""Several machines: which server is to be on which, and Rhizon on all of them over an engine that is there."""
