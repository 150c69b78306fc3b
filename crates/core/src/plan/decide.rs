//! Conditions → whether a job runs, is skipped (and because of which values), or must wait for facts.

use super::scope::Condition;
use crate::expression::Values;
use crate::language::{Code, Diagnostic};
use cel::Context;

/// What is known of a condition when the plan is made.
pub(super) enum Decision {
    Run,
    Skip(String),
    /// Expressions that read facts; the others were true.
    Later(Vec<String>),
}

/// All conditions must be true. Each comes with who has it, in words.
pub(super) fn decide(
    conditions: &[(&Condition, &str)],
    values: &Values,
    context: &Context<'_, '_>,
    diagnostics: &mut Vec<Diagnostic>,
) -> Decision {
    let mut later = Vec::new();
    for (condition, who) in conditions {
        let expression = &condition.expression;
        if expression.needs_facts() {
            later.push(expression.source.clone());
            continue;
        }
        match expression.decide(context) {
            Ok(true) => {}
            Ok(false) => {
                let with = expression.with_values(values);
                let with = if with.is_empty() { String::new() } else { format!(": {with}") };
                return Decision::Skip(format!("{who} `{}` is false{with}", expression.source.trim()));
            }
            Err(why) => {
                let message = format!("`{}` cannot be decided: {why}", expression.source.trim());
                diagnostics.push(
                    Diagnostic::error(Code::Expression, condition.at.span.clone(), message)
                        .hint(format!("the values are: {}", expression.with_values(values))),
                );
                return Decision::Run;
            }
        }
    }
    if later.is_empty() { Decision::Run } else { Decision::Later(later) }
}
