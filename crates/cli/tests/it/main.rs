//! The built binary, run on files in a temporary folder, as its users run it.

mod access;
mod assess;
mod baselines;
mod damage;
mod demo;
mod env;
mod feeds;
mod glance;
mod hostile;
mod import;
mod lifecycle;
mod limits;
mod mistakes;
mod oracle;
mod output;
mod preview;
mod readme;
mod rules;
mod schemas;
mod secrets;
mod shown;
mod state;
mod streamed;
mod tried;
mod verdicts;
mod vet;
