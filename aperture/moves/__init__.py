"""Camera moves that come from elsewhere: a rig, another program, another department."""
