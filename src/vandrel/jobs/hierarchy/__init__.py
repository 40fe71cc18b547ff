"""Jobs on units: the design, delegation, moves."""
