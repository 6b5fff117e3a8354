export function messagesOf(sources: readonly string[]): string[];
