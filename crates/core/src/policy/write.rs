//! From policies to their canonical text.

use std::fmt;

use crate::text::quote;

use super::{Expect, ExpectDevice, Introduce, Limits, Policy, Rate, Rule, RulePlace, Target};

impl fmt::Display for Policy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(f, "policy {} {{", self.name)?;
        if let Some(about) = &self.about {
            writeln!(f, "  about {}", quote(about))?;
        }
        writeln!(f, "  for   {}", self.subjects)?;
        if !self.rules.is_empty() || !self.introduces.is_empty() {
            writeln!(f)?;
        }
        for rule in &self.rules {
            writeln!(f, "  {rule}")?;
        }
        for introduce in &self.introduces {
            writeln!(f, "  {introduce}")?;
        }
        if !self.soles.is_empty() {
            writeln!(f)?;
        }
        for sole in &self.soles {
            writeln!(f, "  sole publish {}", quote(&sole.pattern.to_string()))?;
        }
        if !self.expects.is_empty() {
            writeln!(f)?;
        }
        for expect in &self.expects {
            writeln!(f, "  {expect}")?;
        }
        writeln!(f, "}}")
    }
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {} ", self.effect.as_str(), self.target.act().as_str())?;
        match &self.target {
            Target::Connect(form) => write!(f, "as {}", quote(form.as_str()))?,
            Target::Publish(pattern) | Target::Subscribe(pattern) => f.write_str(&quote(&pattern.to_string()))?,
        }
        if let Some(share) = &self.share {
            write!(f, " share {}", quote(share))?;
        }
        if self.for_children {
            f.write_str(" for children")?;
        }
        write!(f, "{}", self.limits)?;
        match &self.because {
            Some(because) => write!(f, " because {}", quote(because)),
            None => Ok(()),
        }
    }
}

impl fmt::Display for Introduce {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "allow introduce kind {} at most {}", self.kind, self.most)?;
        match &self.because {
            Some(because) => write!(f, " because {}", quote(because)),
            None => Ok(()),
        }
    }
}

impl fmt::Display for Limits {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let all = [
            self.qos.map(|qos| format!("qos <= {qos}")),
            self.size.map(|size| format!("size <= {}", size_text(size))),
            self.rate.map(|rate| format!("rate <= {rate}")),
            self.no_retain.then(|| "no retain".to_owned()),
        ];
        let all: Vec<String> = all.into_iter().flatten().collect();
        if all.is_empty() { Ok(()) } else { write!(f, " {}", all.join(", ")) }
    }
}

fn size_text(size: u32) -> String {
    const MIB: u32 = 1024 * 1024;
    match size {
        0 => "0".to_owned(),
        size if size % MIB == 0 => format!("{}MiB", size / MIB),
        size if size % 1024 == 0 => format!("{}KiB", size / 1024),
        size => size.to_string(),
    }
}

impl fmt::Display for Rate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let unit = match self.seconds {
            1 => "s",
            60 => "min",
            _ => "h",
        };
        write!(f, "{}/{unit}", self.count)
    }
}

impl fmt::Display for Expect {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("expect ")?;
        match &self.device {
            ExpectDevice::Named(id) => write!(f, "{id}")?,
            ExpectDevice::Described(pairs) => {
                let pairs: Vec<String> = pairs.iter().map(|(name, value)| format!("{name}={value}")).collect();
                write!(f, "{{{}}}", pairs.join(", "))?;
            }
        }
        let answer = if self.allowed { "allowed" } else { "denied" };
        write!(f, " {} {} {answer}", self.act.as_str(), quote(&self.subject))
    }
}

impl fmt::Display for RulePlace {
    /// File, line and policy; the column only where another rule begins in the same line.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { place, policy, .. } = self;
        match self.shares_line {
            true => write!(f, "{place} (policy {policy})"),
            false => write!(f, "{}:{} (policy {policy})", place.file, place.line),
        }
    }
}
