//! Tells hooks.

use crate::deliver::deliver;
use crate::forge::Forge;
use crate::letters::letters;
use crate::news::News;

impl Forge {
    /// Tells a repository's hook, in the forge's dialect.
    pub(crate) fn announce(&self, repository: &str, news: &News) {
        let hook = self.book().repositories.get(repository).and_then(|known| known.hook.clone());
        let Some(hook) = hook else { return };
        for letter in letters(self.dialect, &self.url, repository, news) {
            tokio::spawn(deliver(self.client.clone(), hook.clone(), self.dialect, letter));
        }
    }
}
