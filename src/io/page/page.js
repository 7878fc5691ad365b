// What a page of results does in a browser: charts with values on hover, pictures side by side with
// a slider or as their difference, and tables that sort. All it shows is in the element "data".
'use strict';
(() => {
  const data = JSON.parse(document.getElementById('data').textContent);
  const make = (name, text, parent) => {
    const element = document.createElement(name);
    if (text !== undefined) element.textContent = text;
    if (parent) parent.append(element);
    return element;
  };
  const color = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
  const short = (number) => {
    if (number === 0) return '0';
    return Number(number.toPrecision(4)).toString();
  };
  const dark = window.matchMedia('(prefers-color-scheme: dark)');

  // Lines across a chart, and bars from the least to the largest likely value of each point.
  const marks = {
    id: 'marks',
    beforeDatasetsDraw(chart) {
      const {ctx, chartArea: area, scales} = chart;
      ctx.save();
      ctx.font = Chart.defaults.font.size + 'px ' + Chart.defaults.font.family;
      for (const line of chart.config.options.own.lines) {
        const scale = scales[line.axis];
        if (line.at < scale.min || line.at > scale.max) continue;
        const at = scale.getPixelForValue(line.at);
        ctx.strokeStyle = ctx.fillStyle = color('--mark');
        ctx.setLineDash([6, 4]);
        ctx.beginPath();
        if (line.axis === 'x') {
          ctx.moveTo(at, area.top);
          ctx.lineTo(at, area.bottom);
          ctx.stroke();
          ctx.fillText(line.label, at + 4, area.top + 12);
        } else {
          ctx.moveTo(area.left, at);
          ctx.lineTo(area.right, at);
          ctx.stroke();
          ctx.textAlign = 'right';
          ctx.fillText(line.label, area.right - 4, at - 4);
          ctx.textAlign = 'left';
        }
        ctx.setLineDash([]);
      }
      chart.data.datasets.forEach((set, index) => {
        if (!chart.isDatasetVisible(index)) return;
        ctx.strokeStyle = set.borderColor;
        ctx.globalAlpha = 0.55;
        for (const point of set.data) {
          if (point.low === undefined || !(point.high > point.low)) continue;
          const y = scales.y.getPixelForValue(point.y);
          ctx.beginPath();
          ctx.moveTo(scales.x.getPixelForValue(point.low), y);
          ctx.lineTo(scales.x.getPixelForValue(point.high), y);
          ctx.stroke();
        }
        ctx.globalAlpha = 1;
      });
      ctx.restore();
    },
    afterDatasetsDraw(chart) {
      const ring = chart.config.options.own.chosen;
      if (!ring) return;
      const {ctx, scales} = chart;
      ctx.save();
      ctx.strokeStyle = color('--mark');
      ctx.lineWidth = 2.5;
      ctx.beginPath();
      ctx.arc(scales.x.getPixelForValue(ring.x), scales.y.getPixelForValue(ring.y), 11, 0,
              2 * Math.PI);
      ctx.stroke();
      ctx.restore();
    }
  };

  const axis = (of, floor) => ({
    type: of.log ? 'logarithmic' : 'linear',
    title: {display: true, text: of.label, color: color('--ink')},
    beginAtZero: !of.log,
    ...(of.log ? {min: of.least, max: of.most} : {suggestedMin: of.least, suggestedMax: of.most}),
    grid: {color: color('--grid')},
    ticks: {
      color: color('--ink'),
      maxRotation: 0,
      autoSkip: true,
      callback(value) {
        if (floor !== undefined && Math.abs(value / floor - 1) < 1e-6) return '0';
        if (!of.log) return short(value);
        // Of the ends of an axis only those have a number that are round.
        const lead = value / 10 ** Math.floor(Math.log10(value) + 1e-9);
        if (Math.abs(lead - Math.round(lead)) > 1e-6) return '';
        return (of.narrow ? [1, 2, 3, 5, 7] : [1, 2, 5]).includes(Math.round(lead)) ? short(value) : '';
      }
    }
  });

  const charts = [];
  const draw = () => {
    while (charts.length > 0) charts.pop().destroy();
    Chart.defaults.font.family = getComputedStyle(document.body).fontFamily;
    Chart.defaults.font.size = 13;
    data.charts.forEach((one, number) => {
      const canvas = document.getElementById('chart-' + number);
      const colors = [1, 2, 3, 4, 5, 6].map((k) => color('--series-' + k));
      const shapes = ['circle', 'rectRot', 'triangle', 'rect', 'star', 'crossRot'];
      const sets = one.series.map((series, k) => ({
        label: series.name,
        data: series.points,
        borderColor: colors[k % colors.length],
        backgroundColor: colors[k % colors.length],
        pointStyle: shapes[k % shapes.length],
        pointRadius: series.points.map((point) => point.front ? 6.5 : 4),
        pointHoverRadius: 9
      }));
      const front = one.series.flatMap((series) => series.points.filter((point) => point.front))
                        .sort((a, b) => a.x - b.x);
      if (front.length > 1) {
        sets.push({
          label: 'front of best choices',
          data: front.map(({x, y}) => ({x, y})),
          showLine: true,
          stepped: 'before',
          borderColor: color('--front'),
          backgroundColor: color('--front'),
          borderWidth: 1.5,
          pointStyle: 'line',
          pointRadius: 0,
          pointHitRadius: 0,
          pointHoverRadius: 0
        });
      }
      charts.push(new Chart(canvas, {
        type: 'scatter',
        data: {datasets: sets},
        plugins: [marks],
        options: {
          own: {lines: one.lines, chosen: one.chosen},
          animation: false,
          maintainAspectRatio: false,
          interaction: {mode: 'nearest', intersect: true},
          scales: {x: axis(one.x), y: axis(one.y, one.floor)},
          plugins: {
            legend: {position: 'bottom', labels: {usePointStyle: true, color: color('--ink')}},
            tooltip: {
              filter: (item) => item.raw.label !== undefined,
              callbacks: {
                title: (items) => items.length > 0 ? items[0].raw.label : '',
                label: (item) => item.raw.told
              }
            }
          },
          onClick(event, items) {
            const point = items.map((item) => sets[item.datasetIndex].data[item.index])
                              .find((raw) => raw.row !== undefined);
            if (point) select(point.row, point.picture);
          }
        }
      }));
    });
  };

  const select = (row, picture) => {
    for (const element of document.querySelectorAll('tr[data-row]')) {
      element.classList.toggle('selected', Number(element.dataset.row) === row);
    }
    if (picture !== undefined && panel) panel.show(1, picture);
  };

  // Two pictures, the second over the first.
  const panel = data.compare.length > 0 ? (() => {
    const home = document.getElementById('compare');
    const bar = make('div', undefined, home);
    bar.className = 'bar';
    const chosen = [data.compare[0], data.compare[1]];
    const choices = ['left', 'right'].map((side, k) => {
      const label = make('label', side + ' ', bar);
      const list = make('select', undefined, label);
      list.className = 'form-select form-select-sm';
      data.pictures.forEach((picture, number) => {
        make('option', picture.name, list).value = number;
      });
      list.addEventListener('change', () => show(k, Number(list.value)));
      return list;
    });
    const label = make('label', 'as ', bar);
    const mode = make('select', undefined, label);
    mode.className = 'form-select form-select-sm';
    for (const [value, text] of [['slider', 'slider'], ['1', 'difference'],
                                 ['8', 'difference, 8 times'], ['32', 'difference, 32 times']]) {
      make('option', text, mode).value = value;
    }
    mode.addEventListener('change', () => place());
    const stage = make('div', undefined, home);
    stage.className = 'stage';
    const below = make('img', undefined, stage);
    const above = make('img', undefined, stage);
    above.className = 'above';
    const map = make('canvas', undefined, stage);
    map.className = 'above';
    const edge = make('div', undefined, stage);
    edge.className = 'edge';
    const slider = make('input', undefined, home);
    slider.type = 'range';
    slider.className = 'form-range';
    slider.min = 0;
    slider.max = 1000;
    slider.value = 500;
    slider.setAttribute('aria-label', 'where the left picture ends and the right one begins');
    const words = make('p', undefined, home);
    words.className = 'note';
    const difference = (times) => {
      const width = below.naturalWidth, height = below.naturalHeight;
      if (width === 0 || width !== above.naturalWidth || height !== above.naturalHeight) return false;
      map.width = width;
      map.height = height;
      const brush = map.getContext('2d', {willReadFrequently: true});
      brush.drawImage(below, 0, 0);
      const one = brush.getImageData(0, 0, width, height);
      brush.drawImage(above, 0, 0);
      const two = brush.getImageData(0, 0, width, height);
      for (let i = 0; i < one.data.length; i += 4) {
        for (let c = 0; c < 3; ++c) {
          one.data[i + c] = Math.min(255, times * Math.abs(one.data[i + c] - two.data[i + c]));
        }
      }
      brush.putImageData(one, 0, 0);
      return true;
    };
    const place = () => {
      const slides = mode.value === 'slider';
      const share = slider.value / 10;
      above.hidden = !slides;
      edge.hidden = slider.hidden = !slides;
      map.hidden = slides;
      above.style.clipPath = `inset(0 0 0 ${share}%)`;
      edge.style.left = share + '%';
      const [left, right] = chosen.map((k) => data.pictures[k]);
      words.textContent = slides
          ? `left: ${left.name}; right: ${right.name}`
          : `|${left.name} \u2212 ${right.name}| of each channel as shown, ` +
                `white: ${short(255 / Number(mode.value))} of 255 or more`;
      if (!slides && !difference(Number(mode.value))) {
        map.hidden = true;
        words.textContent = 'the two are of different sizes: no difference';
      }
    };
    const show = (k, number) => {
      chosen[k] = number;
      choices[k].value = number;
      const image = k === 0 ? below : above;
      image.onload = place;
      image.src = 'data:image/png;base64,' + data.pictures[number].png;
      image.alt = data.pictures[number].name;
      place();
    };
    slider.addEventListener('input', place);
    const drag = (event) => {
      if (event.buttons !== 1 || mode.value !== 'slider') return;
      const box = stage.getBoundingClientRect();
      slider.value = 1000 * (event.clientX - box.left) / box.width;
      place();
    };
    stage.addEventListener('pointerdown', drag);
    stage.addEventListener('pointermove', drag);
    show(0, chosen[0]);
    show(1, chosen[1]);
    return {show};
  })() : undefined;

  // A click on a head sorts by its column, another one turns the order.
  for (const table of document.querySelectorAll('table.sorts')) {
    const body = table.tBodies[0];
    [...table.tHead.rows[0].cells].forEach((head, column) => {
      head.tabIndex = 0;
      head.setAttribute('role', 'button');
      const sort = () => {
        const down = head.getAttribute('aria-sort') === 'ascending';
        for (const other of table.tHead.rows[0].cells) other.removeAttribute('aria-sort');
        head.setAttribute('aria-sort', down ? 'descending' : 'ascending');
        const key = (row) => {
          const cell = row.cells[column];
          return cell.dataset.number === undefined ? cell.textContent : Number(cell.dataset.number);
        };
        const rows = [...body.rows];
        rows.sort((a, b) => {
          const x = key(a), y = key(b);
          const order = typeof x === 'number' && typeof y === 'number'
              ? x - y
              : String(x).localeCompare(String(y), undefined, {numeric: true});
          return down ? -order : order;
        });
        body.append(...rows);
      };
      head.addEventListener('click', sort);
      head.addEventListener('keydown', (event) => {
        if (event.key === 'Enter' || event.key === ' ') {
          event.preventDefault();
          sort();
        }
      });
    });
    for (const row of body.rows) {
      if (row.dataset.row === undefined) continue;
      row.addEventListener('click', () => {
        const picture = row.dataset.picture;
        select(Number(row.dataset.row), picture === undefined ? undefined : Number(picture));
      });
    }
  }

  draw();
  dark.addEventListener('change', draw);
})();
