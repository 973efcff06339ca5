export function copied(text: string): Promise<boolean>;
