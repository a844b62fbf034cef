//! Has an account asked for too much? One pipeline cannot starve the clusters.

use std::sync::PoisonError;

use axum::http::{HeaderValue, header};
use larder_core::access::Who;
use larder_core::access::rate::Rate;
use larder_store::now;

use super::Gate;
use crate::error::{ApiError, Code};
use crate::plan::Plan;

impl Plan {
    /// What bounds an account. None: nothing does.
    fn rate<'w>(&self, who: &'w Who) -> Option<(&'w str, Rate)> {
        match who {
            Who::Account(name) => Some((name, *self.rates.get(name)?)),
            _ => None,
        }
    }
}

impl Gate {
    /// Counts a request that is about to be answered, or refuses it.
    pub(crate) fn take_one(&self, plan: &Plan, who: &Who) -> Result<(), ApiError> {
        let Some((name, rate)) = plan.rate(who) else { return Ok(()) };
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        let Err(wait) = taken.request(name, rate, now()) else { return Ok(()) };
        drop(taken);
        let seconds = wait.as_millis().div_ceil(1000).max(1);
        let message = format!(
            "the account {name} has taken all that its rate in the larder's configuration lets it; again in {seconds} s"
        );
        let error = ApiError::new(Code::TooManyRequests, message);
        let seconds = u64::try_from(seconds).unwrap_or(u64::MAX);
        Err(error.with_header(header::RETRY_AFTER, HeaderValue::from(seconds)))
    }

    /// Counts the bytes of a request, in both directions.
    pub(crate) fn took(&self, who: &Who, bytes: u64) {
        if bytes == 0 || !matches!(who, Who::Account(_)) {
            return;
        }
        let plan = self.plan();
        if let Some((name, rate)) = plan.rate(who) {
            let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
            taken.bytes(name, rate, bytes, now());
        }
    }
}
