//! Laws that hold for every estate and every request, tried on random ones.

mod bare_laws;
mod beside;
mod claims;
mod conditions;
mod decisions;
mod equivalences;
mod estates;
mod explanations;
mod families;
mod impact;
mod impact_alike;
mod impact_kept;
mod item_laws;
mod proofs;
mod reach;
mod review;
mod usage;
mod vet;
mod vet_claims;
mod ways;
mod ways_apart;
