/** Where we are: the path and its query, kept in the address bar. */

class Router {
  path = $state(location.pathname);
  query = $state.raw(new URLSearchParams(location.search));

  constructor() {
    addEventListener('popstate', () => this.#read());
  }

  go(to: string, replace = false): void {
    if (replace) history.replaceState(null, '', to);
    else history.pushState(null, '', to);
    this.#read();
  }

  #read(): void {
    this.path = location.pathname;
    this.query = new URLSearchParams(location.search);
  }
}

export const router = new Router();

/** Links inside the console change the page without loading it anew. */
export function follow(event: MouseEvent): void {
  const link = (event.target as Element | null)?.closest('a');
  if (!link || link.origin !== location.origin || event.ctrlKey || event.metaKey || event.shiftKey || event.button !== 0) return;
  event.preventDefault();
  router.go(link.pathname + link.search);
}
