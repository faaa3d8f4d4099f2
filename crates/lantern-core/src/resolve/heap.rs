//! Which domain takes part in most conflicts lately.

/// A heap of domains by activity; only those that have taken part in a conflict are in it.
pub(super) struct ActivityHeap {
    activity: Vec<f64>,
    place: Vec<u32>,
    heap: Vec<u32>,
    step: f64,
}

const NOT_IN: u32 = u32::MAX;

impl ActivityHeap {
    pub(super) fn new(domains: usize) -> ActivityHeap {
        ActivityHeap {
            activity: vec![0.0; domains],
            place: vec![NOT_IN; domains],
            heap: Vec::new(),
            step: 1.0,
        }
    }

    /// A domain takes part in a conflict.
    pub(super) fn bump(&mut self, domain: u32) {
        let activity = &mut self.activity[domain as usize];
        *activity += self.step;
        if *activity > 1e100 {
            self.activity
                .iter_mut()
                .for_each(|activity| *activity *= 1e-100);
            self.step *= 1e-100;
        }
        self.offer(domain);
        self.up(self.place[domain as usize] as usize);
    }

    /// Earlier conflicts count less from here on.
    pub(super) fn decay(&mut self) {
        self.step /= 0.95;
    }

    /// A domain is open again.
    pub(super) fn offer(&mut self, domain: u32) {
        if self.place[domain as usize] == NOT_IN && self.activity[domain as usize] > 0.0 {
            self.place[domain as usize] = self.heap.len() as u32;
            self.heap.push(domain);
            self.up(self.heap.len() - 1);
        }
    }

    /// How active a domain is.
    pub(super) fn activity(&self, domain: u32) -> f64 {
        self.activity[domain as usize]
    }

    /// The most active one.
    pub(super) fn top(&self) -> Option<u32> {
        self.heap.first().copied()
    }

    /// So many from the top of the heap: the most active one, and others that are rather active.
    pub(super) fn upper(&self, most: usize) -> impl Iterator<Item = u32> {
        self.heap.iter().take(most).copied()
    }

    /// All that have taken part in a conflict, the most active first.
    pub(super) fn by_activity(&self) -> Vec<u32> {
        let all = 0..self.activity.len() as u32;
        let mut active: Vec<u32> = all.filter(|it| self.activity(*it) > 0.0).collect();
        active.sort_by(|a, b| self.activity(*b).total_cmp(&self.activity(*a)));
        active
    }

    /// Takes out the most active one.
    pub(super) fn pop(&mut self) -> Option<u32> {
        let top = self.top()?;
        self.place[top as usize] = NOT_IN;
        let last = self.heap.pop()?;
        if last != top {
            self.heap[0] = last;
            self.place[last as usize] = 0;
            self.down(0);
        }
        Some(top)
    }

    /// Ties go to the lower number, so that every run is the same.
    fn before(&self, a: usize, b: usize) -> bool {
        let (a, b) = (self.heap[a], self.heap[b]);
        let (x, y) = (self.activity[a as usize], self.activity[b as usize]);
        x > y || x == y && a < b
    }

    fn swap(&mut self, a: usize, b: usize) {
        self.heap.swap(a, b);
        self.place[self.heap[a] as usize] = a as u32;
        self.place[self.heap[b] as usize] = b as u32;
    }

    fn up(&mut self, mut at: usize) {
        while at > 0 && self.before(at, (at - 1) / 2) {
            self.swap(at, (at - 1) / 2);
            at = (at - 1) / 2;
        }
    }

    fn down(&mut self, mut at: usize) {
        loop {
            let children = [2 * at + 1, 2 * at + 2];
            let children = children
                .into_iter()
                .filter(|child| *child < self.heap.len());
            let Some(best) = children.reduce(|a, b| if self.before(b, a) { b } else { a }) else {
                return;
            };
            if !self.before(best, at) {
                return;
            }
            self.swap(best, at);
            at = best;
        }
    }
}
