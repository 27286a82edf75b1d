/** The icon of each kind: strokes in a square of 16 by 16. */
export const icons: Record<string, string> = {
  bucket: "M3 4.5C3 3.1 13 3.1 13 4.5S3 5.9 3 4.5L4.3 12.4C5.5 13.6 10.5 13.6 11.7 12.4L13 4.5",
  queue: "M1.5 4.5h13M1.5 11.5h13M4.5 6.5v3M8 6.5v3M11.5 6.5v3",
  topic: "M2.5 8h4.5L12.5 3.5M7 8h6M7 8l5.5 4.5",
  stream: "M1.5 5.5c2.2-2.4 4.3 2.4 6.5 0s4.3 2.4 6.5 0M1.5 10.5c2.2-2.4 4.3 2.4 6.5 0s4.3 2.4 6.5 0",
  table: "M2.5 3.5h11v9h-11zM2.5 6.5h11M6.5 6.5v6",
  schedule: "M8 2.5a5.5 5.5 0 1 1 0 11a5.5 5.5 0 1 1 0-11M8 5v3.2l2.3 1.6",
  endpoint: "M1.5 8h8M6.8 5.2 9.6 8l-2.8 2.8M12.5 3v10",
  workflow: "M1.5 3.5h4v3h-4zM10.5 3.5h4v3h-4zM6 10.5h4v3H6zM5.5 5h5M12.5 6.5v2H8v2",
  function: "M5 3C2.6 6 2.6 10 5 13M11 3c2.4 3 2.4 7 0 10M6.5 8h3",
  outside: "M12.6 9.5a5 5 0 1 1-5.9-6.2M9.5 2.5h4v4M13.3 2.7 8.5 7.5",
};
