use alloc::vec::Vec;

use crate::variable::{Contents, StoreError, Variable, VariableName, VariableStore};

/// Variables in memory: a state to try changes on.
#[derive(Clone, Debug, Default)]
pub struct MemoryStore {
    variables: Vec<Variable>,
}

impl MemoryStore {
    /// A store that holds these.
    pub fn new(variables: Vec<Variable>) -> Self {
        Self { variables }
    }
}

impl VariableStore for MemoryStore {
    fn read_all(&self) -> Result<Contents, StoreError> {
        Ok(self.variables.clone().into())
    }

    fn write(&mut self, variable: &Variable) -> Result<(), StoreError> {
        match self.variables.iter_mut().find(|held| held.name == variable.name) {
            Some(held) => *held = variable.clone(),
            None => self.variables.push(variable.clone()),
        }
        Ok(())
    }

    fn remove(&mut self, name: &VariableName) -> Result<(), StoreError> {
        self.variables.retain(|held| held.name != *name);
        Ok(())
    }
}
