//! What the program shows, whole: every change of it is seen in a review. `INSTA_UPDATE=always` writes new files, and a changed
//! inline text is put in by hand or with `cargo insta review`.

mod help;
mod machine;
mod mistakes;
mod tables;
