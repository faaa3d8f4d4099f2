//! Which players' clients may join, what they must have to match the server, and whether a client's folder does.

mod check;
mod forms;
mod list;
mod who;

pub use check::{
    Checked, ComponentSeen, Difference, Explained, FolderSeen, Wrong, check, explained,
};
pub use forms::{FileToHave, FormFault, Way, cyclonedx, filled, metalink, players_page, sums};
pub use list::{ClientFile, ClientItem, ClientList, Duty, FORMAT, From, Kept, Since, list};
pub use who::{ClientChange, Entrance, MayJoin, compared, who_may_join};
