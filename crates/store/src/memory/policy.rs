//! Groups, editions and trials.

use tidy_warden_core::id::GroupName;
use tidy_warden_core::time::UnixTime;

use super::MemoryStore;
use crate::{
    EditionRecord, EditionSummary, GroupRecord, ReadPolicies, StoreError, TrialDifference, TrialRecord, WritePolicies,
};

impl ReadPolicies for MemoryStore {
    fn groups(&self) -> Result<Vec<GroupRecord>, StoreError> {
        Ok(self.model().groups.values().cloned().collect())
    }

    fn edition(&self, number: Option<u32>) -> Result<Option<EditionRecord>, StoreError> {
        let model = self.model();
        Ok(match number {
            Some(number) => model.editions.iter().find(|edition| edition.number == number).cloned(),
            None => model.editions.last().cloned(),
        })
    }

    fn editions(&self) -> Result<Vec<EditionSummary>, StoreError> {
        let summary = |edition: &EditionRecord| EditionSummary {
            number: edition.number,
            digest: edition.digest,
            author: edition.author.clone(),
            at: edition.at,
            because: edition.because.clone(),
            files: edition.files.iter().map(|file| file.name.clone()).collect(),
        };
        Ok(self.model().editions.iter().map(summary).collect())
    }

    fn trial(&self) -> Result<Option<TrialRecord>, StoreError> {
        Ok(self.model().trials.iter().rev().find(|(_, ended)| ended.is_none()).map(|(trial, _)| trial.clone()))
    }

    fn last_trial(&self) -> Result<u32, StoreError> {
        Ok(self.model().trials.last().map_or(0, |(trial, _)| trial.number))
    }

    fn trial_differences(&self, trial: u32) -> Result<Vec<TrialDifference>, StoreError> {
        let model = self.model();
        let its = model.differences.iter().filter(|((number, ..), _)| *number == trial);
        Ok(its.map(|(_, difference)| difference.clone()).collect())
    }
}

impl WritePolicies for MemoryStore {
    fn put_group(&mut self, group: &GroupRecord) -> Result<(), StoreError> {
        let groups = &mut self.model_mut().groups;
        groups.entry(group.name.clone()).or_insert_with(|| group.clone()).rule.clone_from(&group.rule);
        Ok(())
    }

    fn drop_group(&mut self, name: &GroupName) -> Result<bool, StoreError> {
        Ok(self.model_mut().groups.remove(name).is_some())
    }

    fn put_groups_changed(&mut self, change: i64) -> Result<(), StoreError> {
        self.model_mut().groups_changed = change;
        Ok(())
    }

    fn put_edition(&mut self, edition: &EditionRecord) -> Result<(), StoreError> {
        self.model_mut().editions.push(edition.clone());
        Ok(())
    }

    fn put_trial(&mut self, trial: &TrialRecord) -> Result<(), StoreError> {
        self.model_mut().trials.push((trial.clone(), None));
        Ok(())
    }

    fn end_trials(&mut self, at: UnixTime) -> Result<(), StoreError> {
        for (_, ended) in &mut self.model_mut().trials {
            ended.get_or_insert(at);
        }
        Ok(())
    }
}
