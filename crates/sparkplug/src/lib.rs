//! Sparkplug B 3.0.0: payload encoding and the edge-node session as a state machine without I/O.
