//! What is otherwise for a cell than for its job: all that `cell` says for it, later ones over earlier ones.

use super::cells::fits;
use crate::language::{At, Body, Capacity, Cell, Env, Extras, Placed};
use crate::template::Template;
use indexmap::IndexMap;

/// The settings of one cell; nothing where its job says nothing else for it.
#[derive(Default)]
pub(super) struct Settings<'a> {
    pub(super) labels: Option<&'a Vec<At<Template>>>,
    pub(super) timeout_ms: Option<u64>,
    pub(super) may_fail: Option<bool>,
    pub(super) env: Vec<&'a Env>,
    tools: Option<&'a IndexMap<String, Placed>>,
    image: Option<&'a Placed>,
    network: Option<bool>,
    capacity: Capacity,
}

impl<'a> Settings<'a> {
    pub(super) fn of(body: &'a Body, cell: &Cell) -> Settings<'a> {
        let mut all = Settings::default();
        for one in body.settings.iter().filter(|one| fits(cell, &one.of)) {
            all.labels = one.labels.as_ref().or(all.labels);
            all.timeout_ms = one.timeout_ms.or(all.timeout_ms);
            all.may_fail = one.may_fail.or(all.may_fail);
            all.env.push(&one.env);
            all.tools = (!one.tools.is_empty()).then_some(&one.tools).or(all.tools);
            all.image = one.image.as_ref().or(all.image);
            all.network = one.network.or(all.network);
            all.capacity = one.capacity.over(all.capacity);
        }
        all
    }

    /// Whether the cell asks its runner for nothing but what the job does.
    pub(super) fn asks_nothing(&self) -> bool {
        self.tools.is_none() && self.image.is_none() && self.network.is_none() && self.capacity.is_none()
    }

    /// Tools are joined, each in its own version; what else is said takes the place of what the job says.
    pub(super) fn put_into(&self, extras: &mut Extras) {
        let tools = self.tools.into_iter().flatten().map(|(tool, wanted)| (tool.clone(), wanted.clone()));
        extras.tools.extend(tools);
        extras.image = self.image.cloned().or(extras.image.take());
        extras.network = self.network.or(extras.network);
        extras.capacity = self.capacity.over(extras.capacity);
    }
}
