//! Three proposals go through the landing queue: one passes, one fails, one conflicts with the first. A fourth waits for an
//! approval.

use super::{PATIENCE, World, git, json, output, practice};
use serde_json::Value;
use std::path::Path;
use std::time::Instant;

struct Offer {
    branch: &'static str,
    title: &'static str,
    by: &'static str,
    /// A text in a file, and what takes its place.
    file: &'static str,
    from: &'static str,
    to: &'static str,
    /// What becomes of it, in a few words of its reason.
    ends: &'static str,
}

const OFFERS: [Offer; 3] = [
    Offer {
        branch: "topic/whole-millimetres",
        title: "Heights are whole millimetres",
        by: "odd",
        file: "NOTICE",
        from: "Heights are in millimetres",
        to: "Heights are in whole millimetres",
        ends: "landed",
    },
    Offer {
        branch: "topic/drift",
        title: "Take the drift off where samples are taken",
        by: "tomas",
        file: "src/gauge.c",
        from: "gauge->drift * days;",
        to: "2.0 * gauge->drift * days;",
        ends: "failed",
    },
    Offer {
        branch: "topic/chart-datum",
        title: "Heights are above the chart's datum",
        by: "odd",
        file: "NOTICE",
        from: "Heights are in millimetres above the station's datum",
        to: "Heights are in millimetres above the chart's datum",
        ends: "it does not merge",
    },
];

impl World {
    /// Offers all three, has them approved, asks for them to land, and waits. Gives a row of the demo's table for each, and
    /// how many ended otherwise than they should.
    pub(super) fn land_three(&self) -> Result<(Vec<Vec<String>>, usize), String> {
        let mut numbers = Vec::new();
        for offer in &OFFERS {
            numbers.push(self.offer(offer)?);
        }
        for number in &numbers {
            output(self.client().args(["land", &format!("tidegauge/{number}")]))?;
        }
        // The one that was offered first waits for a keeper's word.
        output(self.client().args(["land", "tidegauge/1"]))?;
        let (mut rows, mut wrong) = (Vec::new(), 0);
        for (offer, number) in OFFERS.iter().zip(&numbers) {
            let told = self.landed(number)?;
            wrong += usize::from(!told.contains(offer.ends));
            eprintln!("  {:<14} {:<8} {}", format!("proposal {number}"), if told == "landed" { "landed" } else { "left" }, offer.title);
            rows.push(vec![
                format!("proposal {number}"),
                if told == "landed" { "landed".into() } else { "left".into() },
                offer.ends.into(),
                offer.title.into(),
                told,
            ]);
        }
        Ok((rows, wrong))
    }

    fn offer(&self, offer: &Offer) -> Result<u64, String> {
        let work = self.folder.join("work/tidegauge");
        git(&work, &["checkout", "--quiet", "-B", offer.branch, "main"])?;
        replace(&work.join(offer.file), offer.from, offer.to)?;
        let who = [format!("user.name={}", offer.by), format!("user.email={}@saltmarsh.example", offer.by)];
        git(&work, &["-c", &who[0], "-c", &who[1], "commit", "--quiet", "--all", "-m", offer.title])?;
        git(&work, &["push", "--quiet", "origin", "HEAD"])?;
        git(&work, &["checkout", "--quiet", "main"])?;
        let about =
            ["propose", "tidegauge", "--forge", &self.forge_url, "--source", offer.branch, "--title", offer.title, "--by", offer.by];
        let made: Value = json(practice().args(about))?;
        let number = made["number"].as_u64().ok_or("the forge gave no number")?;
        output(practice().args(["review", "tidegauge", &number.to_string(), "--forge", &self.forge_url, "--by", "maren", "--approve"]))?;
        let shown = ["--json", "proposals", &format!("tidegauge/{number}")].map(str::to_owned);
        self.until(&format!("proposal {number} is approved"), || {
            let view: Value = json(self.client().args(&shown)).unwrap_or_default();
            (view["reviews"][0]["approves"] == true).then_some(())
        })?;
        Ok(number)
    }

    /// `landed`, or why the proposal left.
    fn landed(&self, number: &u64) -> Result<String, String> {
        self.until(&format!("the end of proposal {number}"), || {
            let view: Value = json(self.client().args(["--json", "landing", "tidegauge"])).ok()?;
            let ended = view[0]["landing"]["ended"].as_array()?.clone();
            let end = ended.into_iter().find(|end| end["proposal"] == number.to_string().as_str())?;
            Some(if end["commit"].is_string() { "landed".to_owned() } else { end["why"].as_str().unwrap_or_default().to_owned() })
        })
    }

    pub(super) fn until<T>(&self, what: &str, look: impl Fn() -> Option<T>) -> Result<T, String> {
        let end = Instant::now() + PATIENCE;
        while Instant::now() < end {
            if let Some(found) = look() {
                return Ok(found);
            }
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
        Err(format!("waited {} s in vain: {what}; see {}", PATIENCE.as_secs(), self.folder.display()))
    }
}

fn replace(path: &Path, from: &str, to: &str) -> Result<(), String> {
    let text = std::fs::read_to_string(path).map_err(|error| format!("{}: {error}", path.display()))?;
    if !text.contains(from) {
        return Err(format!("{}: `{from}` is not in it; the demo needs mending", path.display()));
    }
    std::fs::write(path, text.replacen(from, to, 1)).map_err(|error| format!("{}: {error}", path.display()))
}
