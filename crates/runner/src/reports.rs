//! What a job leaves beside files: facts, and what its reports say of tests, coverage and findings. Told to the service
//! when the steps have ended, also when they failed.

use crate::archive::chosen;
use crate::beneath::{Beneath, is_link_error, is_missing};
use crate::broken::{Broken, failed};
use crate::folders::FACTS;
use crate::job::Job;
use crate::workspace::Workspace;
use indexmap::IndexMap;
use ordotaxis_core::engine::Number;
use ordotaxis_core::language::Fact;
use ordotaxis_core::report::{
    Bill, Case, Coverage, Finding, ReportError, bill, cobertura_lines, junit_cases, lcov_lines, sarif_findings, tap_cases, test_times,
};
use ordotaxis_wire::runner::{AttemptBill, AttemptReports};
use std::collections::BTreeMap;
use std::io::Read as _;
use std::path::Path;

/// The longest value of a fact.
const FACT_LIMIT: u64 = 64 * 1024;
/// The largest report that is read.
const REPORT_LIMIT: u64 = 256 * 1024 * 1024;
/// The largest bill of materials, and all of a job together: they are sent whole.
const BILL_LIMIT: usize = 8 * 1024 * 1024;
/// The most cases of one job.
const CASES: usize = 300_000;

/// What was read, and a sentence for each report that could not be.
#[derive(Default)]
struct Read {
    cases: Option<Vec<Case>>,
    coverage: Option<Coverage>,
    findings: Option<Vec<Finding>>,
    bills: Option<Vec<AttemptBill>>,
    remarks: Vec<String>,
}

impl Job<'_> {
    /// Reads everything and sends it to the service. Returns a sentence about the first test that failed, if one did. A fact
    /// that does not fit its declaration is an error; a report that cannot be read is skipped, and the log says so.
    pub(crate) async fn tell_left(&mut self, workspace: &Workspace) -> Result<Option<String>, Broken> {
        if self.lease.reports.is_empty() && self.lease.facts.is_empty() {
            return Ok(None);
        }
        let (facts, numbers, wrong) = self.facts(workspace).await;
        let (folders, reports) = (workspace.folders.clone(), self.lease.reports.clone());
        let seen_as = self.fence().files_inside().to_owned();
        let read = tokio::task::spawn_blocking(move || match folders.job() {
            Ok(root) => read_all(&root, &seen_as, &reports),
            Err(error) => Read { remarks: vec![format!("the job's folder could not be looked at: {error}")], ..Read::default() },
        });
        let mut read = read.await.unwrap_or_default();
        mask(&mut read, self.shipper.masking());
        for remark in &read.remarks {
            self.shipper.log.say(remark).await;
        }
        if self.lease.share.is_some() {
            self.tests = read.cases.as_deref().map(test_times).unwrap_or_default();
        }
        let left =
            AttemptReports { facts, numbers, cases: read.cases, coverage: read.coverage, findings: read.findings, bills: read.bills };
        let (client, attempt) = (&self.shared.client, self.lease.attempt);
        let taken = crate::client::insist(&self.shared.abort, || client.left(attempt, &left)).await?;
        for said in &taken.said {
            self.shipper.log.say(said).await;
        }
        match wrong {
            Some(why) => Err(failed(why)),
            None => Ok(taken.first),
        }
    }

    /// The declared facts that were written, those of them that are numbers, and what is wrong with one.
    async fn facts(&mut self, workspace: &Workspace) -> (BTreeMap<String, String>, BTreeMap<String, Number>, Option<String>) {
        let (mut facts, mut numbers, mut wrong) = (BTreeMap::new(), BTreeMap::new(), None);
        let folder = Beneath::open(&workspace.folders.tmp);
        for fact in self.lease.facts.clone() {
            let value = match folder.as_ref().map_err(ToString::to_string).and_then(|tmp| read_fact(tmp, &fact.name)) {
                Ok(Some(value)) => self.shipper.masked(&value),
                Ok(None) => {
                    self.shipper.log.say(&format!("fact {}: not written", fact.name)).await;
                    continue;
                }
                Err(why) => {
                    wrong = Some(format!("fact {}: {why}", fact.name));
                    continue;
                }
            };
            if fact.number {
                match Number::read(&value) {
                    Some(number) => drop(numbers.insert(self.number_name(&fact), number)),
                    None => wrong = Some(format!("fact {} is not a number: {:?}", fact.name, value.chars().take(60).collect::<String>())),
                }
            }
            facts.insert(fact.name, value);
        }
        for name in folder.map(|tmp| undeclared(&tmp, &self.lease.facts)).unwrap_or_default() {
            let line = format!("fact {name}: written, but the job does not say `facts = [\"{name}\"]`; left out");
            self.shipper.log.say(&line).await;
        }
        (facts, numbers, wrong)
    }

    fn number_name(&self, fact: &Fact) -> String {
        format!("fact.{}.{}", self.lease.job.without_cell(), fact.name)
    }
}

/// Everything that a report says in words may hold a secret, names as well as messages.
fn mask(read: &mut Read, masked: impl Fn(&str) -> String) {
    let over = |text: &mut String| *text = masked(text);
    for case in read.cases.iter_mut().flatten() {
        let texts = [Some(&mut case.suite), Some(&mut case.name), case.file.as_mut(), case.message.as_mut()];
        texts.into_iter().flatten().for_each(over);
    }
    for finding in read.findings.iter_mut().flatten() {
        let texts = [Some(&mut finding.rule), Some(&mut finding.message), Some(&mut finding.key), finding.file.as_mut()];
        texts.into_iter().flatten().for_each(over);
    }
    for bill in read.bills.iter_mut().flatten() {
        over(&mut bill.document);
        let texts = bill.components.iter_mut().flat_map(|one| [Some(&mut one.name), Some(&mut one.version), one.purl.as_mut()]);
        texts.flatten().for_each(over);
    }
    if let Some(coverage) = &mut read.coverage {
        for (file, lines) in std::mem::take(&mut coverage.0) {
            coverage.join(Coverage([(masked(&file), lines)].into()));
        }
    }
    read.remarks.iter_mut().for_each(over);
}

fn read_fact(tmp: &Beneath, name: &str) -> Result<Option<String>, String> {
    let file = match tmp.file(&Path::new(FACTS).join(name)) {
        Err(error) if is_missing(&error) => return Ok(None),
        Err(error) if is_link_error(&error) => return Err("it is a link, or lies behind one".into()),
        other => other.map_err(|error| error.to_string())?,
    };
    let mut bytes = Vec::new();
    file.take(FACT_LIMIT + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    if bytes.len() as u64 > FACT_LIMIT {
        return Err(format!("it has more than {FACT_LIMIT} bytes; a fact has at most that"));
    }
    let text = String::from_utf8(bytes).map_err(|_| "it is not UTF-8 text".to_owned())?;
    Ok(Some(text.trim_end_matches(['\n', '\r']).to_owned()))
}

fn undeclared(tmp: &Beneath, declared: &[Fact]) -> Vec<String> {
    let folder = tmp.folder(Path::new(FACTS));
    let entries = folder.and_then(|folder| std::fs::read_dir(folder.path())).into_iter().flatten().flatten();
    let names = entries.map(|entry| entry.file_name().to_string_lossy().into_owned());
    let mut names: Vec<String> = names.filter(|name| !declared.iter().any(|fact| fact.name == *name)).take(20).collect();
    names.sort();
    names
}

fn read_all(root: &Beneath, seen_as: &Path, reports: &IndexMap<String, Vec<String>>) -> Read {
    let mut read = Read::default();
    for (kind, globs) in reports {
        if kind == "sbom" {
            read.bills.get_or_insert_default();
        }
        let paths = match chosen(root, globs, false) {
            Ok(paths) => paths,
            Err(error) => {
                read.remarks.push(format!("reports {kind}: {error}"));
                continue;
            }
        };
        if paths.is_empty() {
            read.remarks.push(format!("reports {kind}: nothing matches {}", globs.join(", ")));
        }
        for path in paths {
            if let Err(why) = read_one(root, seen_as, kind, &path, &mut read) {
                read.remarks.push(format!("report {}: {why}; left out", path.display()));
            }
        }
    }
    if let Some(cases) = read.cases.as_mut().filter(|cases| cases.len() > CASES) {
        read.remarks.push(format!("reports: of {} test cases {CASES} are kept", cases.len()));
        cases.truncate(CASES);
    }
    read
}

/// `seen_as` is what the job's folder is called inside of its fence.
fn read_one(root: &Beneath, seen_as: &Path, kind: &str, path: &Path, read: &mut Read) -> Result<(), String> {
    let file = root.file(path).map_err(|error| if is_link_error(&error) { "it is a link".to_owned() } else { error.to_string() })?;
    let mut bytes = Vec::new();
    file.take(REPORT_LIMIT + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    if bytes.len() as u64 > REPORT_LIMIT {
        return Err(format!("it has more than {} MiB; at most that is read", REPORT_LIMIT >> 20));
    }
    let said = |error: ReportError| error.to_string();
    match kind {
        "junit" => read.cases.get_or_insert_default().extend(junit_cases(&bytes).map_err(said)?),
        "tap" => {
            let suite = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
            let named = |case: Case| if case.suite.is_empty() { Case { suite: suite.clone(), ..case } } else { case };
            read.cases.get_or_insert_default().extend(tap_cases(&bytes).map_err(said)?.into_iter().map(named));
        }
        "lcov" => read.coverage.get_or_insert_default().join(inside(seen_as, lcov_lines(&bytes).map_err(said)?)),
        "cobertura" => read.coverage.get_or_insert_default().join(inside(seen_as, cobertura_lines(&bytes).map_err(said)?)),
        "sarif" => read.findings.get_or_insert_default().extend(sarif_findings(&bytes).map_err(said)?),
        "sbom" => {
            let Bill { form, components } = bill(&bytes).map_err(said)?;
            let document = String::from_utf8(bytes).map_err(|_| "it is not UTF-8 text".to_owned())?;
            let bills = read.bills.get_or_insert_default();
            if document.len() + bills.iter().map(|known| known.document.len()).sum::<usize>() > BILL_LIMIT {
                return Err(format!("bills of materials of a job have at most {} MiB together", BILL_LIMIT >> 20));
            }
            bills.push(AttemptBill { file: path.display().to_string(), form, components, document });
        }
        _ => return Err(format!("this runner reads no {kind}")),
    }
    Ok(())
}

/// Files as paths from the job's folder, however the tool wrote them.
fn inside(root: &Path, coverage: Coverage) -> Coverage {
    let root = format!("{}/", root.display());
    let plain = |file: String| {
        let file = file.strip_prefix(&root).unwrap_or(&file);
        file.trim_start_matches("./").to_owned()
    };
    Coverage(coverage.0.into_iter().map(|(file, lines)| (plain(file), lines)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reports_of_a_job_are_put_together_and_bad_ones_left_out() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
        write("a.xml", "<testsuite name='gauge'><testcase name='datum' time='0.5'/></testsuite>");
        write("b.xml", "<testsuite name='buoy'><testcase name='drift'><failure message='3 mm'/></testcase></testsuite>");
        write("bomb.xml", "<!DOCTYPE x [<!ENTITY a 'b'>]><testsuite/>");
        write("t.tap", "1..1\nok 1 - tide\n");
        write("cover.info", &format!("SF:{}/src/a.c\nDA:1,1\nDA:2,0\nend_of_record\n", folder.path().display()));
        let reports = IndexMap::from([
            ("junit".to_owned(), vec!["*.xml".to_owned()]),
            ("tap".to_owned(), vec!["t.tap".to_owned()]),
            ("lcov".to_owned(), vec!["cover.info".to_owned()]),
            ("sarif".to_owned(), vec!["none.sarif".to_owned()]),
            ("sbom".to_owned(), vec!["*.json".to_owned()]),
        ]);
        write("bom.json", r#"{"bomFormat":"CycloneDX","components":[{"name":"zlib","version":"1.3.1"}]}"#);
        write("package.json", r#"{"name":"gauge"}"#);
        let read = read_all(&Beneath::open(folder.path()).unwrap(), folder.path(), &reports);
        let names: Vec<String> = read.cases.unwrap().into_iter().map(|case| format!("{}/{}", case.suite, case.name)).collect();
        assert_eq!(names, ["gauge/datum", "buoy/drift", "t/tide"]);
        assert_eq!(read.coverage.unwrap().0.keys().collect::<Vec<_>>(), ["src/a.c"]);
        let bills: Vec<(String, usize)> = read.bills.unwrap().into_iter().map(|bill| (bill.file, bill.components.len())).collect();
        assert_eq!(bills, [("bom.json".to_owned(), 1)]);
        assert_eq!(read.remarks.len(), 3, "{:?}", read.remarks);
        assert!(read.remarks[2].contains("package.json: it is not a bill of materials"), "{:?}", read.remarks);
        assert!(read.remarks[0].contains("bomb.xml: it declares a document type"), "{:?}", read.remarks);
    }

    #[test]
    fn facts_are_small_texts() {
        let folder = tempfile::tempdir().unwrap();
        let tmp = Beneath::open(folder.path()).unwrap();
        let facts = folder.path().join(FACTS);
        assert_eq!(read_fact(&tmp, "size"), Ok(None));
        std::fs::create_dir(&facts).unwrap();
        let path = facts.join("size");
        assert_eq!(read_fact(&tmp, "size"), Ok(None));
        std::fs::write(&path, "4096\n").unwrap();
        assert_eq!(read_fact(&tmp, "size"), Ok(Some("4096".into())));
        std::fs::write(&path, [0xff, 0xfe]).unwrap();
        assert!(read_fact(&tmp, "size").is_err());
        std::fs::write(&path, vec![b'x'; 70_000]).unwrap();
        assert!(read_fact(&tmp, "size").unwrap_err().contains("at most"));
        std::os::unix::fs::symlink("/etc/passwd", facts.join("link")).unwrap();
        assert!(read_fact(&tmp, "link").unwrap_err().contains("link"));
        assert_eq!(undeclared(&tmp, &[Fact { name: "size".into(), number: false }]), ["link"]);
        // The whole folder as a link out of here.
        std::fs::remove_dir_all(&facts).unwrap();
        std::os::unix::fs::symlink("/proc/self", &facts).unwrap();
        assert!(read_fact(&tmp, "environ").unwrap_err().contains("link"));
        assert!(undeclared(&tmp, &[]).is_empty());
    }
}
