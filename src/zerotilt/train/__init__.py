"""scikit-learn estimators trained from an audit's table, and written as model versions."""
