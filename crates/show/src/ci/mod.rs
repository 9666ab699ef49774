//! Expectations in the formats that CI systems read.

mod annotations;
mod junit;
mod sarif;
mod tap;

pub use annotations::annotations;
pub use junit::junit;
pub use sarif::sarif;
pub use tap::tap;
