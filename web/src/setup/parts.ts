export const PART = "rounded-[6px] border border-hairline bg-paper p-3";

export const HEAD = "mb-2 font-semibold";
