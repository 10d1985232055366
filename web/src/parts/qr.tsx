/** A QR code, dark on light whatever the page's colours are, with the margin of four that readers need. */
export function QrCode({ rows, label, width = 220 }: { rows: string[]; label: string; width?: number }) {
  const size = rows.length + 8;
  return (
    <svg viewBox={`0 0 ${size} ${size}`} width={width} height={width} role="img" aria-label={label}>
      <rect width={size} height={size} fill="#fff" />
      <path
        fill="#000"
        d={rows
          .map((row, y) => [...row].map((c, x) => (c === '1' ? `M${x + 4} ${y + 4}h1v1h-1z` : '')).join(''))
          .join('')}
      />
    </svg>
  );
}
