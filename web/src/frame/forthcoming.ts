/** Who wants to know what the address is about to say, before the page is drawn for it: what it reads is asked for then. */
const listening = new Set<(next: URLSearchParams) => void>();

export function listen(to: (next: URLSearchParams) => void): () => void {
  listening.add(to);
  return () => {
    listening.delete(to);
  };
}

export function tell(next: URLSearchParams): void {
  for (const one of listening) one(next);
}
