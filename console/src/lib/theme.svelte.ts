/** Light or dark: as the system has it, unless somebody chose. */

type Choice = 'system' | 'light' | 'dark';
const KEY = 'yantro-theme';

function stored(): Choice {
  // Whatever comes from browser storage is checked before use.
  const value = localStorage.getItem(KEY);
  return value === 'light' || value === 'dark' ? value : 'system';
}

class Theme {
  choice = $state<Choice>(stored());
  #system = matchMedia('(prefers-color-scheme: dark)');

  constructor() {
    this.#system.addEventListener('change', () => this.#apply());
    this.#apply();
  }

  next(): void {
    this.choice = this.choice === 'system' ? 'dark' : this.choice === 'dark' ? 'light' : 'system';
    localStorage.setItem(KEY, this.choice);
    this.#apply();
  }

  #apply(): void {
    const dark = this.choice === 'dark' || (this.choice === 'system' && this.#system.matches);
    document.documentElement.classList.toggle('dark', dark);
  }
}

export const theme = new Theme();
