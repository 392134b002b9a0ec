document.body.textContent = "hello";
