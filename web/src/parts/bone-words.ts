/** "leftUpperArm" as people say it. */
export const inWords = (bone: string): string => bone.replace(/([A-Z])/g, (c) => ` ${c.toLowerCase()}`);
