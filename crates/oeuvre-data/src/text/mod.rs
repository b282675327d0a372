//! Text files: a folder for each way of writing records. What their texts are is found out in `kinds/`.

pub(crate) mod csv;
