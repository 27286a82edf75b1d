/** What brings files in: one place takes what is dropped anywhere, and what is picked. */
export const incoming = { pick: () => {} };
