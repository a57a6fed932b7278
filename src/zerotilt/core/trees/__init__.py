"""Tree ensembles: what can be computed exactly because the model is made of leaves."""
