"""Tables, labels and looks that all views share."""
