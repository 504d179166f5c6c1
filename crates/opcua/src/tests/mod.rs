//! Our bytes beside those of independent implementations.

mod meaning;
mod vectors;
