//! What is in the account and how orders are filled, as a line of words.

use super::RehearseLens;
use crate::effect::{Effect, Effects, say, warn};

impl RehearseLens {
    /// The settings of the desk as they are typed.
    pub(super) fn rules_in_words(&self) -> String {
        let rules = &self.rules;
        let mut words = Vec::new();
        words.extend(rules.balance.map(|balance| format!("balance {balance}")));
        words.extend(self.account.as_ref().map(|account| format!("account {account}")));
        if rules.latency > 0 {
            words.push(format!("latency {}ms", rules.latency / 1000));
        }
        if rules.slippage > 0 {
            words.push(format!("slippage {}", rules.slippage));
        }
        if rules.queue != stavel_core::rehearse::Queue::Touch {
            words.push("queue through".to_owned());
        }
        words.extend(rules.depth.map(|depth| format!("depth {depth}")));
        if rules.hedged {
            words.push("hedged".to_owned());
        }
        if words.is_empty() { "balance 10000".to_owned() } else { words.join(", ") }
    }

    /// Takes settings of the desk as they are typed; they hold from the beginning, so the rehearsal begins anew.
    pub(super) fn set_rules(&mut self, text: &str) -> Effects {
        let mut step = stavel_work::RehearseStep::default();
        for part in text.split(',').map(str::trim).filter(|part| !part.is_empty()) {
            let (key, value) = part.split_once(' ').unwrap_or((part, ""));
            let value = value.trim();
            let is_known = match key {
                "balance" => value.parse().map(|n| step.balance = Some(n)).is_ok(),
                "call" => value.parse().map(|n| step.call = Some(n)).is_ok(),
                "slippage" => value.parse().map(|n| step.slippage = n).is_ok(),
                "queue" => value.parse().map(|queue| step.queue = queue).is_ok(),
                "depth" => value.parse().map(|depth| step.depth = Some(depth)).is_ok(),
                "account" | "latency" | "hedged" => {
                    match key {
                        "account" => step.account = Some(value.to_owned()),
                        "latency" => step.latency = Some(value.to_owned()),
                        _ => step.hedged = true,
                    }
                    true
                }
                _ => false,
            };
            if !is_known {
                return warn(format!(
                    "'{part}' is not understood; as: balance 10000, latency 200ms, queue through, hedged"
                ));
            }
        }
        match step.rules() {
            Ok(rules) => {
                (self.rules, self.account) = (rules, step.account);
                say("the rehearsal begins anew here with these rules")
            }
            Err(err) => vec![Effect::Complain(err)],
        }
    }
}
