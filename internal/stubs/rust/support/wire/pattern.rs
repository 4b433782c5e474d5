//! Matches the patterns of the definitions, in time that goes with the length of the text.

/// Is a pattern as a machine of states, made by the generator.
#[doc(hidden)]
pub struct Pattern(pub &'static [State]);

/// Is a state of a pattern. Each goes on to the next one but where it says otherwise.
#[doc(hidden)]
pub enum State {
    /// A code point from one of these ranges.
    Class(&'static [(u32, u32)]),
    /// Any of these states.
    Split(&'static [u16]),
    /// That state.
    Jump(u16),
    /// The beginning of the text.
    Begin,
    /// The end of the text.
    End,
    /// All of the pattern was found.
    Found,
}

impl Pattern {
    /// Tells whether the pattern is found anywhere in a text.
    #[must_use]
    pub fn matches(&self, text: &str) -> bool {
        let mut now = States::new(self.0.len());
        let mut next = States::new(self.0.len());
        let mut rest = text.chars();
        let mut first = true;
        loop {
            let c = rest.next();
            if self.reach(&mut now, 0, first, c.is_none()) {
                return true;
            }
            let Some(c) = c else {
                return false;
            };
            let last = rest.as_str().is_empty();
            for &state in &now.list {
                if let State::Class(ranges) = &self.0[state] {
                    let code = u32::from(c);
                    let inside = ranges
                        .iter()
                        .any(|(low, high)| (*low..=*high).contains(&code));
                    if inside && self.reach(&mut next, state + 1, false, last) {
                        return true;
                    }
                }
            }
            now.clear();
            std::mem::swap(&mut now, &mut next);
            first = false;
        }
    }

    /// Adds a state and those that follow without a character; true is the end of the pattern.
    fn reach(&self, states: &mut States, from: usize, begin: bool, end: bool) -> bool {
        let mut open = vec![from];
        while let Some(state) = open.pop() {
            if !states.add(state) {
                continue;
            }
            match &self.0[state] {
                State::Split(all) => open.extend(all.iter().map(|to| usize::from(*to))),
                State::Jump(to) => open.push(usize::from(*to)),
                State::Begin if begin => open.push(state + 1),
                State::End if end => open.push(state + 1),
                State::Class(_) | State::Begin | State::End => {}
                State::Found => return true,
            }
        }
        false
    }
}

/// Is a set of states.
struct States {
    list: Vec<usize>,
    there: Vec<bool>,
}

impl States {
    fn new(size: usize) -> Self {
        Self {
            list: Vec::with_capacity(size),
            there: vec![false; size],
        }
    }

    fn add(&mut self, state: usize) -> bool {
        if self.there[state] {
            return false;
        }
        self.there[state] = true;
        self.list.push(state);
        true
    }

    fn clear(&mut self) {
        for &state in &self.list {
            self.there[state] = false;
        }
        self.list.clear();
    }
}
