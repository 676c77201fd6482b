//! Opens records as the next release would, and says there what only that can: `next_release FILE KEY NAS`.

use std::env::args;
use std::path::PathBuf;

use regnant_records::{Author, Command, Envelope, Reading, Records, take_key};

fn main() {
    let [file, key, nas] = args().skip(1).collect::<Vec<_>>().try_into().expect("FILE KEY NAS");
    let file = PathBuf::from(file);
    let key = take_key(&PathBuf::from(key), &file).expect("the key");
    let records = Records::open(&file, &key, 1).expect("the records");
    let more = Command::SayMore { nas, more: "by the gate".into() };
    records.apply(&Envelope::new(&Author::machine(), 2_000, more)).expect("it is said");
    let told = records.verify().expect("the log");
    println!("{:?} {:?} {:?}", records.rows().expect("the rows"), told.commands, told.broken);
}
