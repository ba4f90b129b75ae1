//! The recorder as a program of its own, where it is not part of another.

fn main() {
    yantro_recorder::record();
}
