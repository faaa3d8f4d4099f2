//! Parts.
