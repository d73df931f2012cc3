/** Light, dark, or as the system has it. */
export type ThemeChoice = 'system' | 'light' | 'dark';
const KEY = 'rust-gauge-theme';

export function savedTheme(): ThemeChoice {
  const saved = localStorage.getItem(KEY);
  return saved === 'light' || saved === 'dark' ? saved : 'system';
}

export function applyTheme(choice: ThemeChoice) {
  if (choice === 'system') {
    delete document.documentElement.dataset.theme;
    localStorage.removeItem(KEY);
  } else {
    document.documentElement.dataset.theme = choice;
    localStorage.setItem(KEY, choice);
  }
}
