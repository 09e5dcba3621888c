//! Reading files of a plan: blocks of lines are read, parsed, ordered and encoded side by side.
//!
//! Each turn of the loop does four things at once on all cores: it reads the next blocks, parses the
//! blocks read in the turn before, hands the rows parsed in the turn before that to the taker, in the
//! order of the file, and encodes the row groups the taker has filled. So memory holds a few blocks of
//! each kind, whatever the size of the file.

use crate::Result;
use crate::job::Job;
use crate::model::Scale;
use crate::store::{Encoded, Work};

use super::blocks::{LineBlocks, skip_head};
use super::ledger::Ledger;
use super::parse::{Parsed, Parser};
use super::plan::IntakePlan;
use super::taker::{Halt, ParsedBlock, RawBlock, RowTaker};
use crate::model::layout::Layout;

/// Blocks read, parsed and taken together.
const TOGETHER: usize = 8;
/// Reads all files of a plan, scaling numbers by `scale`, and hands the rows to `taker`; gives the BLAKE3 of
/// each file whose bytes went by as they are.
pub fn read_files(
    plan: &IntakePlan,
    scale: Scale,
    ledger: &mut Ledger,
    taker: &mut impl RowTaker,
    job: &Job,
) -> Result<Vec<Option<String>>, Halt> {
    let mut feeder = Feeder { plan, file: 0, open: None, hashes: Vec::new() };
    let parser = |layout: &Layout| Parser::new(layout, scale).rounding(plan.decimals_said);
    let parsers: Vec<Parser> = plan.files.iter().map(|(_, layout)| parser(layout)).collect();
    let mut raw: Vec<RawBlock> = feeder.next(2)?;
    let mut parsed: Vec<ParsedBlock> = Vec::new();
    let mut work: Vec<Work> = Vec::new();
    loop {
        let mut next = Ok(Vec::new());
        let mut fresh: Vec<Option<Parsed>> = raw.iter().map(|_| None).collect();
        let mut encoded: Vec<Vec<Option<Result<_>>>> =
            work.iter().map(|w| (0..w.group.width()).map(|_| None).collect()).collect();
        let ready = std::mem::take(&mut parsed);
        let mut taken = Ok(());
        rayon::scope(|s| {
            s.spawn(|_| next = feeder.next(TOGETHER));
            s.spawn(|_| {
                taken = ready.into_iter().try_for_each(|block| ledger.take(block, plan, scale, taker, job));
            });
            for (raw, slot) in raw.iter().zip(&mut fresh) {
                let parser = &parsers[raw.file];
                s.spawn(move |_| *slot = Some(parser.block(&raw.block.text)));
            }
            for (work, slots) in work.iter().zip(&mut encoded) {
                for (column, slot) in slots.iter_mut().enumerate() {
                    s.spawn(move |_| *slot = Some(work.group.encode_column(column)));
                }
            }
        });
        taken?;
        for (done, columns) in work.iter().zip(encoded) {
            let columns: Result<Vec<_>> = columns.into_iter().flatten().collect();
            taker.accept(done.place, Encoded::of(columns?))?;
        }
        parsed =
            raw.into_iter().zip(fresh).filter_map(|(raw, p)| Some(ParsedBlock { raw, parsed: p? })).collect();
        raw = next?;
        work = taker.work();
        if raw.is_empty() && parsed.is_empty() && work.is_empty() {
            return Ok(feeder.hashes);
        }
    }
}

/// Reads the blocks of the files one after another.
struct Feeder<'p> {
    plan: &'p IntakePlan,
    file: usize,
    open: Option<LineBlocks>,
    /// Of the files that were read to their end.
    hashes: Vec<Option<String>>,
}

impl Feeder<'_> {
    fn next(&mut self, most: usize) -> Result<Vec<RawBlock>> {
        let mut out = Vec::with_capacity(most);
        while out.len() < most {
            let Some((member, layout)) = self.plan.files.get(self.file) else { break };
            let is_first = self.open.is_none();
            let blocks = match &mut self.open {
                Some(blocks) => blocks,
                None => self.open.insert(LineBlocks::open(member)?),
            };
            match blocks.next()? {
                Some(mut block) => {
                    let head = if is_first { skip_head(&mut block, layout) } else { 0 };
                    out.push(RawBlock { file: self.file, head, block });
                }
                None => {
                    member.must_be_unchanged()?;
                    self.hashes.push(self.open.take().and_then(|blocks| blocks.hash()));
                    self.file += 1;
                }
            }
        }
        Ok(out)
    }
}
